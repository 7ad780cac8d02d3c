import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, unwrap } from './client'
import type { components } from './schema'

type Schemas = components['schemas']
export type ReadyDevice = Schemas['ReadyDevice']
export type ReadyWay = Schemas['ReadyWay']

const readiness = ['readiness']

export const useReadiness = () =>
  useQuery({
    queryKey: readiness,
    refetchInterval: 30_000,
    queryFn: ({ signal }) => unwrap(api.GET('/readiness', { signal })),
  })

export function useDrill() {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: () => unwrap(api.POST('/readiness', { body: {} })),
    onSuccess: (found) => client.setQueryData(readiness, found),
  })
}
