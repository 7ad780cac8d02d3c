import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, unwrap } from './client'
import type { components } from './schema'

type Schemas = components['schemas']
export type Channel = Schemas['Channel']
export type Note = Schemas['Note']
export type Turn = Schemas['Turn']

export const useChannels = () =>
  useQuery({ queryKey: ['channels'], queryFn: ({ signal }) => unwrap(api.GET('/channels', { signal })) })

export const useTestChannel = (name: string) =>
  useMutation({
    retry: false,
    mutationFn: (to: string) => unwrap(api.POST('/channels/{name}/test', { params: { path: { name } }, body: { to } })),
  })

export const useTelling = () =>
  useQuery({ queryKey: ['telling'], queryFn: ({ signal }) => unwrap(api.GET('/telling', { signal })) })

/** Looks whether a text is right, or has it count. */
export const useSetTelling = () => {
  const client = useQueryClient()
  return useMutation({
    retry: false,
    mutationFn: (body: { text: string; check: boolean }) =>
      unwrap(api.PUT('/telling', { body: { ...body, name: 'line' } })),
    onSuccess: (_, { check }) => {
      if (check) return
      void client.invalidateQueries({ queryKey: ['telling'] })
      void client.invalidateQueries({ queryKey: ['channels'] })
    },
  })
}

export const usePreviewTelling = (query: { device: string; kind: string; at?: string }) =>
  useQuery({
    queryKey: ['telling', 'preview', query],
    enabled: query.device !== '',
    queryFn: ({ signal }) => unwrap(api.GET('/telling/preview', { params: { query }, signal })),
  })

/** What people were told: told of again with the incidents. */
export const useNotes = () =>
  useQuery({
    queryKey: ['incidents', 'notes'],
    queryFn: ({ signal }) => unwrap(api.GET('/notes', { params: { query: { limit: 100 } }, signal })),
  })
