// Server state, all of it through TanStack Query.
import { computed, type Ref } from 'vue'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { api, ask, zone, type Device, type JournalEntry, type Problem, type Session } from './call'

export function useSession() {
  return useQuery<Session, Problem>({
    queryKey: ['session'],
    queryFn: () => ask(api.GET('/session')),
    staleTime: Infinity,
    retry: false,
  })
}

/** All devices of a selector, page by page. */
export function useDevices(selector: Ref<string>) {
  return useQuery<Device[], Problem>({
    queryKey: ['devices', selector],
    queryFn: async () => {
      const all: Device[] = []
      let cursor: string | undefined
      do {
        const page = await ask(
          api.GET('/devices', { params: { query: { selector: selector.value, limit: 2000, cursor } } }),
        )
        all.push(...page.items)
        cursor = page.next
      } while (cursor)
      return all
    },
    placeholderData: keepPreviousData,
  })
}

export function useDevice(name: Ref<string>) {
  return useQuery({
    queryKey: ['device', name],
    queryFn: () => ask(api.GET('/devices/{name}', { params: { path: { name: name.value } } })),
    retry: false,
  })
}

export function useRevisions(name: Ref<string>, datastore: Ref<string>, part: Ref<string>) {
  return useQuery({
    queryKey: ['revisions', name, datastore, part],
    queryFn: () =>
      ask(
        api.GET('/devices/{name}/revisions', {
          params: {
            path: { name: name.value },
            query: {
              datastore: datastore.value as 'running' | 'startup' | 'candidate',
              part: part.value || undefined,
            },
          },
        }),
      ),
    retry: false,
  })
}

export function useConfiguration(ref: Ref<string>) {
  return useQuery({
    queryKey: ['configuration', ref],
    queryFn: () => ask(api.GET('/configuration', { params: { query: { ref: ref.value, zone } } })),
    enabled: computed(() => ref.value !== ''),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useComparison(left: Ref<string>, right: Ref<string>, context: Ref<number>) {
  return useQuery({
    queryKey: ['comparison', left, right, context],
    queryFn: () =>
      ask(
        api.GET('/comparison', {
          params: { query: { left: left.value, right: right.value, context: context.value, zone } },
        }),
      ),
    enabled: computed(() => left.value !== '' && right.value !== ''),
    placeholderData: keepPreviousData,
    refetchOnWindowFocus: false, // "@live" would capture again
    retry: false,
  })
}

export function useRounds() {
  return useQuery({
    queryKey: ['rounds'],
    queryFn: () => ask(api.GET('/rounds', { params: { query: { limit: 200 } } })),
  })
}

export function useRound(id: Ref<number>) {
  return useQuery({
    queryKey: ['round', id],
    queryFn: () => ask(api.GET('/rounds/{id}', { params: { path: { id: id.value } } })),
    retry: false,
  })
}

export function useJournal() {
  return useQuery<JournalEntry[], Problem>({
    queryKey: ['journal'],
    queryFn: async () => (await ask(api.GET('/journal', { params: { query: { limit: 2000 } } }))).items,
  })
}

export function useStartRound() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: (selector: string) => ask(api.POST('/rounds', { body: { selector } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['rounds'] }),
  })
}
