import { keepPreviousData, type QueryClient, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useMemo } from 'react'
import {
  api,
  type ControllerChange,
  type EstateEvent,
  type GroupIntent,
  type GroupRequest,
  type IncidentSaying,
  type Intent,
  type NewPassword,
  type OperationRequest,
  ProblemError,
  type Role,
  type SupplyCommand,
  unwrap,
  type WiringCheck,
} from './client'

// Everything is loaded once; the stream of changes says when it is old.
const live = { staleTime: Number.POSITIVE_INFINITY }

export const useSession = () =>
  useQuery({
    queryKey: ['session'],
    queryFn: ({ signal }) => unwrap(api.GET('/session', { signal })),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  })

export const boardQuery = {
  queryKey: ['board'],
  queryFn: ({ signal }: { signal: AbortSignal }) => unwrap(api.GET('/board', { signal })),
  ...live,
}

export const useBoard = () => useQuery(boardQuery)

export const useDevice = (key: string) =>
  useQuery({
    queryKey: ['device', key],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}', { params: { path: { key } }, signal })),
    ...live,
  })

export const useLook = (key: string) => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: () => unwrap(api.POST('/devices/{key}/look', { params: { path: { key } } })),
    onSuccess: (look) => client.setQueryData(['device', key], look.device),
  })
}

/** Sends a newline to its serial line, unless somebody types there. */
export const useCheckLeads = (key: string) => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: () => unwrap(api.POST('/devices/{key}/leads', { params: { path: { key } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['device', key] }),
  })
}

export const useDraw = (key: string, hours: number) =>
  useQuery({
    queryKey: ['draw', key, hours],
    queryFn: ({ signal }) => {
      const to = new Date()
      const from = new Date(to.getTime() - hours * 3_600_000)
      const query = { from: from.toISOString(), to: to.toISOString() }
      return unwrap(api.GET('/devices/{key}/draw', { params: { path: { key }, query }, signal }))
    },
    ...live,
    staleTime: 60_000,
  })

export const usePower = () =>
  useQuery({
    queryKey: ['power'],
    queryFn: ({ signal }) => unwrap(api.GET('/power', { signal })),
    ...live,
  })

const wiringKey = (site: string) => ['wiring', site]

export const useWiring = (site: string) =>
  useQuery({
    queryKey: wiringKey(site),
    queryFn: ({ signal }) => unwrap(api.GET('/wiring/{site}', { params: { path: { site } }, signal })),
    staleTime: 60_000,
  })

export const useCheckWiring = (site: string) => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: (body: WiringCheck) => unwrap(api.POST('/wiring/{site}', { params: { path: { site } }, body })),
    onSuccess: (w) => client.setQueryData(wiringKey(site), w),
  })
}

export const useStopWiring = (site: string) =>
  useMutation({
    retry: false,
    mutationFn: () => unwrap(api.DELETE('/wiring/{site}', { params: { path: { site } } })),
  })

export const useSupply = (key: string) =>
  useQuery({
    queryKey: ['device', key, 'supply'],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/supply', { params: { path: { key } }, signal })),
    ...live,
  })

export const useCommandSupply = (key: string) => {
  const client = useQueryClient()
  return useMutation({
    retry: false, // a browser never repeats a command that may have arrived
    mutationFn: (body: SupplyCommand) => unwrap(api.POST('/devices/{key}/supply', { params: { path: { key } }, body })),
    onSuccess: (supply) => client.setQueryData(['device', key, 'supply'], supply),
  })
}

export const usePorts = (key: string) =>
  useQuery({
    queryKey: ['device', key, 'ports'],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/ports', { params: { path: { key } }, signal })),
    ...live,
  })

/** The card itself is asked, so only when somebody wants to know. */
export const useCard = (key: string, wanted: boolean) =>
  useQuery({
    queryKey: ['card', key],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/card', { params: { path: { key } }, signal })),
    enabled: wanted,
    ...live,
  })

export const useSeries = (key: string) =>
  useQuery({
    queryKey: ['series', key],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/series', { params: { path: { key } }, signal })),
    staleTime: 60_000,
  })

/** A series over the last hours, or over the time that was zoomed to. */
export const useHistory = (
  key: string,
  series: string | undefined,
  hours: number,
  zoom: { from: number; to: number } | undefined,
) =>
  useQuery({
    queryKey: ['history', key, series, hours, zoom],
    queryFn: ({ signal }) => {
      const to = zoom ? zoom.to : Date.now()
      const from = zoom ? zoom.from : to - hours * 3_600_000
      const query = { series: [series ?? ''], from: new Date(from).toISOString(), to: new Date(to).toISOString() }
      return unwrap(api.GET('/devices/{key}/history', { params: { path: { key }, query }, signal }))
    },
    enabled: series !== undefined,
    placeholderData: keepPreviousData,
    staleTime: 60_000,
  })

/** The readings with their last three hours. */
export const useSensors = (key: string) =>
  useQuery({
    queryKey: ['device', key, 'sensors'],
    queryFn: ({ signal }) =>
      unwrap(api.GET('/devices/{key}/sensors', { params: { path: { key }, query: { hours: 3 } }, signal })),
    refetchInterval: 30_000, // as often as they are usually read
    ...live,
  })

export const useEvents = (key: string) =>
  useQuery({
    queryKey: ['device', key, 'events'],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/events', { params: { path: { key } }, signal })),
    refetchInterval: 60_000,
    ...live,
  })

/** What gear itself has logged, of so many days. */
export const useGearEvents = (site: string, level: string, days: number) =>
  useQuery({
    queryKey: ['gear-events', site, level, days],
    queryFn: ({ signal }) => {
      const since = new Date(Date.now() - days * 86_400_000).toISOString()
      const query = { since, limit: 500, ...(site && { site }), ...(level && { level: level as EstateEvent['level'] }) }
      return unwrap(api.GET('/gear-events', { params: { query }, signal }))
    },
    refetchInterval: 30_000,
    placeholderData: keepPreviousData,
  })

/** What its serial line shows; a device that starts says something all the time. */
export const useLineScreen = (key: string, wanted: boolean) =>
  useQuery({
    queryKey: ['device', key, 'screen'],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/serial/screen', { params: { path: { key } }, signal })),
    refetchInterval: 5_000,
    enabled: wanted,
  })

export const useSheet = (key: string) =>
  useQuery({
    queryKey: ['device', key, 'sheet'],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/sheet', { params: { path: { key } }, signal })),
    ...live,
  })

export const useSheets = () =>
  useQuery({
    queryKey: ['sheets'],
    queryFn: ({ signal }) => unwrap(api.GET('/sheets', { signal })),
    staleTime: 60_000,
  })

/** The settings of a controller, read from it when they are asked for. */
export const useController = (key: string, wanted: boolean) =>
  useQuery({
    queryKey: ['controller', key],
    queryFn: ({ signal }) => unwrap(api.GET('/devices/{key}/controller', { params: { path: { key } }, signal })),
    enabled: wanted,
    retry: false,
    ...live,
  })

/** What a change to a controller would do, and making it. */
export const useChangeController = (key: string, change: ControllerChange) => {
  const client = useQueryClient()
  const post = (apply: boolean) =>
    unwrap(api.POST('/devices/{key}/controller', { params: { path: { key } }, body: { ...change, apply } }))
  const shown = useQuery({
    queryKey: ['controller-change', key, change],
    queryFn: () => post(false),
    gcTime: 0,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  })
  const make = useMutation({
    retry: false,
    mutationFn: () => post(true),
    onSuccess: () => client.invalidateQueries({ queryKey: ['controller', key] }),
  })
  return { shown, make }
}

export const useJournal = (filter: { device?: string; who?: string; kind?: string; limit: number }) =>
  useQuery({
    queryKey: ['journal', filter],
    queryFn: ({ signal }) => unwrap(api.GET('/journal', { params: { query: filter }, signal })),
    placeholderData: (old) => old,
    ...live,
  })

export const operationQuery = (id: string) => ({
  queryKey: ['operation', id],
  queryFn: ({ signal }: { signal: AbortSignal }) =>
    unwrap(api.GET('/operations/{id}', { params: { path: { id } }, signal })),
  ...live,
})

export const useOperation = (id: string) => useQuery(operationQuery(id))

export const useIncidents = (query: { all: boolean; text?: string; limit?: number }) =>
  useQuery({
    queryKey: ['incidents', query],
    queryFn: ({ signal }) => unwrap(api.GET('/incidents', { params: { query }, signal })),
    placeholderData: (old) => old,
    ...live,
  })

export const useIncident = (id: string) =>
  useQuery({
    queryKey: ['incidents', 'one', id],
    queryFn: ({ signal }) => unwrap(api.GET('/incidents/{id}', { params: { path: { id } }, signal })),
    ...live,
  })

/** Those of the past that were like one, and what helped then. */
export const useSimilar = (id: string) =>
  useQuery({
    queryKey: ['incidents', 'similar', id],
    queryFn: ({ signal }) => unwrap(api.GET('/incidents/{id}/similar', { params: { path: { id } }, signal })),
  })

/** Who was told of an incident, and who will be. */
export const useTold = (id: string) =>
  useQuery({
    queryKey: ['incidents', 'told', id],
    queryFn: ({ signal }) => unwrap(api.GET('/incidents/{id}/told', { params: { path: { id } }, signal })),
    ...live,
  })

export const useSayOfIncident = (id: string) => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: (body: IncidentSaying) => unwrap(api.POST('/incidents/{id}', { params: { path: { id } }, body })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['incidents'] }),
  })
}

export const useAccounts = () =>
  useQuery({
    queryKey: ['accounts'],
    queryFn: ({ signal }) => unwrap(api.GET('/accounts', { signal })),
  })

type AccountChange = { name: string } & (
  | { what: 'add'; role: Role }
  | { what: 'role'; role: Role }
  | { what: 'reset' }
  | { what: 'remove' }
)

/** Changes who may log in; where a password was generated, that is what comes back. */
export const useChangeAccounts = () => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: async (c: AccountChange): Promise<NewPassword | undefined> => {
      const params = { path: { name: c.name } }
      switch (c.what) {
        case 'add':
          return unwrap(api.POST('/accounts', { body: { name: c.name, role: c.role } }))
        case 'reset':
          return unwrap(api.POST('/accounts/{name}/password', { params }))
        case 'role':
          return unwrap(api.PUT('/accounts/{name}/role', { params, body: { role: c.role } })).then(() => undefined)
        case 'remove':
          return unwrap(api.DELETE('/accounts/{name}', { params })).then(() => undefined)
      }
    },
    onSettled: () => client.invalidateQueries({ queryKey: ['accounts'] }),
  })
}

export const useOwnKeys = () =>
  useQuery({
    queryKey: ['own keys'],
    queryFn: ({ signal }) => unwrap(api.GET('/session/keys', { signal })),
  })

export const useChangeOwnKeys = () => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: async (c: { add: string } | { remove: string }) => {
      if ('add' in c) await unwrap(api.POST('/session/keys', { body: { key: c.add } }))
      else await unwrap(api.DELETE('/session/keys', { params: { query: { print: c.remove } } }))
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ['own keys'] }),
  })
}

export const useChangePassword = () =>
  useMutation({
    retry: false,
    mutationFn: (body: { old: string; new: string }) => unwrap(api.PUT('/password', { body })),
  })

/** What an operation would do, as things stand: looked at anew every time it is opened. */
export const usePreview = (intent: Intent) =>
  useQuery({
    queryKey: ['preview', intent],
    queryFn: ({ signal }) => unwrap(api.POST('/previews', { body: intent, signal })),
    gcTime: 0,
    staleTime: 0,
    retry: false,
  })

/** What must be done once only, with a key that was made up for it. */
export type Once<T> = { once: string; body: T }

/** A key for one thing that is agreed to: whoever clicks again after silence means the same. */
export const useOnce = (digest: string) => useMemo(() => `${digest}-${random()}`, [digest])

const random = () =>
  [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, '0')).join('')

const onceHeader = (key: string) => ({ header: { 'Idempotency-Key': key } })

/** An answer that was lost is asked for again: with the same key nothing is begun twice. */
const askAgain = {
  retry: (failures: number, error: Error) =>
    failures < 4 && error instanceof ProblemError && error.problem.status === 0,
  retryDelay: 1000,
}

export const useRequestOperation = () => {
  const client = useQueryClient()
  return useMutation({
    ...askAgain,
    mutationFn: (c: Once<OperationRequest>) => unwrap(api.POST('/operations', { ...c, params: onceHeader(c.once) })),
    onSuccess: (o) => client.setQueryData(['operation', o.id], (now: unknown) => now ?? o),
  })
}

export const useCancelOperation = () =>
  useMutation({
    retry: false,
    mutationFn: (id: string) => unwrap(api.POST('/operations/{id}/cancel', { params: { path: { id } } })),
  })

/** What several operations, or one for later, would do. */
export const useGroupPreview = (intent: GroupIntent) =>
  useQuery({
    queryKey: ['group-preview', intent],
    queryFn: ({ signal }) => unwrap(api.POST('/group-previews', { body: intent, signal })),
    gcTime: 0,
    staleTime: 0,
    retry: false,
    placeholderData: (old) => old,
  })

export const useRequestGroup = () => {
  const client = useQueryClient()
  return useMutation({
    ...askAgain,
    mutationFn: (c: Once<GroupRequest>) => unwrap(api.POST('/groups', { ...c, params: onceHeader(c.once) })),
    onSuccess: (g) => client.setQueryData(['group', g.id], (now: unknown) => now ?? g),
  })
}

export const useGroup = (id: string) =>
  useQuery({
    queryKey: ['group', id],
    queryFn: ({ signal }) => unwrap(api.GET('/groups/{id}', { params: { path: { id } }, signal })),
    ...live,
  })

/** Groups that run, or wait for their time. */
export const useOpenGroups = () =>
  useQuery({
    queryKey: ['groups'],
    queryFn: ({ signal }) => unwrap(api.GET('/groups', { params: { query: { unended: true } }, signal })),
    ...live,
  })

export const useCancelGroup = () =>
  useMutation({
    retry: false,
    mutationFn: (id: string) => unwrap(api.POST('/groups/{id}/cancel', { params: { path: { id } } })),
  })

export const useLogIn = () => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: (body: { account: string; password: string }) => unwrap(api.POST('/session', { body })),
    onSuccess: (session) => {
      forgetOthers(client)
      client.setQueryData(['session'], session)
    },
  })
}

export const useLogOut = () => {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => unwrap(api.DELETE('/session')),
    onSettled: () => forgetEverything(client),
  })
}

/** Forgets all that was loaded but who is logged in. */
export const forgetOthers = (client: QueryClient) =>
  client.removeQueries({ predicate: (q) => q.queryKey[0] !== 'session' })

/** After this the log-in page is shown. */
export function forgetEverything(client: QueryClient) {
  client.clear()
  void client.invalidateQueries({ queryKey: ['session'] })
}
