import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, unwrap } from './client'
import type { components } from './schema'

type Schemas = components['schemas']
export type Routine = Schemas['Routine']
export type Run = Schemas['RoutineRun']
export type ClockTime = Schemas['ClockTime']
export type TrialStep = Schemas['TrialStep']
export type Arguments = Record<string, string>

/** Routines begin by themselves, so what they do is asked for again and again. */
const often = 3000
const seldom = 60_000

export const useRoutines = () =>
  useQuery({
    queryKey: ['orders', 'routines'],
    refetchInterval: often,
    queryFn: ({ signal }) => unwrap(api.GET('/routines', { signal })),
  })

export const useRuns = () =>
  useQuery({
    queryKey: ['orders', 'runs'],
    refetchInterval: often,
    queryFn: ({ signal }) => unwrap(api.GET('/routine-runs', { params: { query: { limit: 50 } }, signal })),
  })

/** One run, with its steps. */
export const useRun = (id: string) =>
  useQuery({
    queryKey: ['orders', 'runs', id],
    queryFn: ({ signal }) => unwrap(api.GET('/routine-runs/{id}', { params: { path: { id } }, signal })),
  })

export const useClock = () =>
  useQuery({
    queryKey: ['orders', 'clock'],
    refetchInterval: seldom,
    queryFn: ({ signal }) => unwrap(api.GET('/clock', { params: { query: { days: 7 } }, signal })),
  })

/** A change after which everything about orders is asked for anew. */
function useChange<T, R>(mutationFn: (x: T) => Promise<R>) {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn,
    onSettled: () => void client.invalidateQueries({ queryKey: ['orders'] }),
  })
}

export const useSetRoutines = () =>
  useChange((body: { text: string; check: boolean }) =>
    unwrap(api.PUT('/routines', { body: { ...body, name: 'line' } })),
  )

export const useTryRoutine = () =>
  useChange((body: { name?: string; text?: string; with: Arguments }) => unwrap(api.POST('/routine-trials', { body })))

export const useBeginRoutine = (name: string) =>
  useChange((given: Arguments) =>
    unwrap(api.POST('/routines/{name}/runs', { params: { path: { name } }, body: { with: given } })),
  )

export const useSwitchRoutine = (name: string) =>
  useChange((off: boolean) => unwrap(api.PATCH('/routines/{name}', { params: { path: { name } }, body: { off } })))

export const useRemoveRoutine = (name: string) =>
  useChange(() => unwrap(api.DELETE('/routines/{name}', { params: { path: { name } } })))

export const useSteerRun = (id: string) =>
  useChange((what: 'stop' | 'pause' | 'resume') =>
    unwrap(api.PATCH('/routine-runs/{id}', { params: { path: { id } }, body: { do: what } })),
  )

export type Ladder = Schemas['Ladder']
export type LadderPast = Schemas['LadderPast']

export const useLadders = () =>
  useQuery({
    queryKey: ['orders', 'ladders'],
    refetchInterval: often,
    queryFn: ({ signal }) => unwrap(api.GET('/ladders', { signal })),
  })

export const useSetLadders = () =>
  useChange((body: { text: string; check: boolean }) =>
    unwrap(api.PUT('/ladders', { body: { ...body, name: 'line' } })),
  )

export const usePastOf = (name: string) =>
  useChange(() => unwrap(api.GET('/ladders/{name}/past', { params: { path: { name }, query: { days: 90 } } })))

export const useArmLadder = (name: string) =>
  useChange((armed: boolean) => unwrap(api.PATCH('/ladders/{name}', { params: { path: { name } }, body: { armed } })))

export const useResetLadder = (name: string) =>
  useChange((device: string) =>
    unwrap(api.POST('/ladders/{name}/reset', { params: { path: { name } }, body: device ? { device } : {} })),
  )
