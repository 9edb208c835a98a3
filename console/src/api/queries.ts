// Server state, all of it through TanStack Query.
import { computed, type Ref } from 'vue'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import {
  api,
  ask,
  zone,
  type Device,
  type FreshnessReport,
  type ComparisonQuery,
  type Found,
  type JournalEntry,
  type Problem,
  type Question,
  type SavedSearch,
  type Session,
} from './call'

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

export function useComparison(q: Ref<ComparisonQuery>) {
  const left = computed(() => q.value.left)
  const right = computed(() => q.value.right)
  return useQuery({
    queryKey: ['comparison', q],
    queryFn: () => ask(api.GET('/comparison', { params: { query: { ...q.value, zone } } })),
    enabled: computed(() => left.value !== '' && right.value !== ''),
    placeholderData: keepPreviousData,
    refetchOnWindowFocus: false, // "@live" would capture again
    retry: false,
  })
}

/** Since when each line of a configuration stands. */
export function useLines(ref: Ref<string>, wanted: Ref<boolean>) {
  return useQuery({
    queryKey: ['lines', ref],
    queryFn: () => ask(api.GET('/lines', { params: { query: { ref: ref.value, zone } } })),
    enabled: computed(() => wanted.value && ref.value !== ''),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useSearch(question: Ref<Question | undefined>) {
  return useQuery<Found, Problem>({
    queryKey: ['search', question],
    queryFn: () => ask(api.POST('/search', { body: { ...question.value!, zone } })),
    enabled: computed(() => question.value !== undefined),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useSearches() {
  return useQuery<SavedSearch[], Problem>({
    queryKey: ['searches'],
    queryFn: () => ask(api.GET('/searches')),
  })
}

export function useMoments() {
  return useQuery({ queryKey: ['moments'], queryFn: () => ask(api.GET('/moments')) })
}

/** What differs in the fleet between a time and now. */
export function useFleetComparison(from: Ref<string>, selector: Ref<string>) {
  return useQuery({
    queryKey: ['fleet-comparison', from, selector],
    queryFn: () =>
      ask(
        api.GET('/fleet/comparison', {
          params: { query: { from: from.value, selector: selector.value, zone } },
        }),
      ),
    enabled: computed(() => from.value !== ''),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useFleetAt(at: Ref<string>, selector: Ref<string>) {
  return useQuery({
    queryKey: ['fleet-at', at, selector],
    queryFn: () =>
      ask(
        api.GET('/fleet/configurations', {
          params: { query: { at: at.value, selector: selector.value, zone } },
        }),
      ),
    enabled: computed(() => at.value !== ''),
    placeholderData: keepPreviousData,
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

export function useFreshness(selector: Ref<string>) {
  return useQuery<FreshnessReport, Problem>({
    queryKey: ['freshness', selector],
    queryFn: () => ask(api.GET('/freshness', { params: { query: { selector: selector.value } } })),
  })
}

export function useSchedules() {
  return useQuery({ queryKey: ['schedules'], queryFn: () => ask(api.GET('/schedules')) })
}

export function useComing() {
  return useQuery({ queryKey: ['coming'], queryFn: () => ask(api.GET('/coming')) })
}

export function useCredentials(enabled: Ref<boolean>) {
  return useQuery({ queryKey: ['credentials'], queryFn: () => ask(api.GET('/credentials')), enabled })
}

export function useGroups() {
  return useQuery({ queryKey: ['groups'], queryFn: () => ask(api.GET('/groups')) })
}

export function useSites() {
  return useQuery({ queryKey: ['sites'], queryFn: () => ask(api.GET('/sites')) })
}

export function useDialects() {
  return useQuery({ queryKey: ['dialects'], queryFn: () => ask(api.GET('/dialects')) })
}

export function useVisits(name: Ref<string>) {
  return useQuery({
    queryKey: ['visits', name],
    queryFn: () => ask(api.GET('/devices/{name}/visits', { params: { path: { name: name.value } } })),
    retry: false,
  })
}

export function useVisit(id: Ref<number>, device: Ref<string>) {
  return useQuery({
    queryKey: ['visit', id, device],
    queryFn: () =>
      ask(
        api.GET('/rounds/{id}/visit', {
          params: { path: { id: id.value }, query: { device: device.value } },
        }),
      ),
    retry: false,
  })
}

export function useJumpHosts() {
  return useQuery({ queryKey: ['jumps'], queryFn: () => ask(api.GET('/jump-hosts')) })
}

export function useImports() {
  return useQuery({ queryKey: ['imports'], queryFn: () => ask(api.GET('/imports')) })
}
