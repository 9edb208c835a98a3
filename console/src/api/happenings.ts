// Server state of what happens: changes, agreed hours, signals, and telling of them.
import { computed, type Ref } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { api, ask, zone, type ChangeOverview, type ChangeQuery, type Problem } from './call'

export function useChanges(q: Ref<ChangeQuery>) {
  return useQuery({
    queryKey: ['changes', q],
    queryFn: () => ask(api.GET('/changes', { params: { query: { ...q.value, zone, limit: 300 } } })),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useChangeOverview(q: Ref<ChangeQuery>) {
  return useQuery<ChangeOverview, Problem>({
    queryKey: ['change-overview', q],
    queryFn: () => ask(api.GET('/changes/overview', { params: { query: { ...q.value, zone } } })),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useChange(id: Ref<number>) {
  return useQuery({
    queryKey: ['changes', 'one', id],
    queryFn: () => ask(api.GET('/changes/{id}', { params: { path: { id: id.value } } })),
    enabled: computed(() => id.value > 0),
    retry: false,
  })
}

/** How many changes wait for a verdict. */
export function useOpenChanges() {
  return useQuery({
    queryKey: ['changes', 'open'],
    queryFn: async () =>
      (await ask(api.GET('/changes', { params: { query: { verdict: ['open'], limit: 1 } } }))).total,
  })
}

export function useWindows() {
  return useQuery({ queryKey: ['windows'], queryFn: () => ask(api.GET('/windows')) })
}

export function useSignals(selector: Ref<string>) {
  return useQuery({
    queryKey: ['signals', selector],
    queryFn: () => ask(api.GET('/signals', { params: { query: { selector: selector.value, limit: 200 } } })),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useSenders() {
  return useQuery({ queryKey: ['senders'], queryFn: () => ask(api.GET('/senders')) })
}

export function useQuestions() {
  return useQuery({ queryKey: ['questions'], queryFn: () => ask(api.GET('/questions')) })
}

export function useChannels() {
  return useQuery({ queryKey: ['channels'], queryFn: () => ask(api.GET('/channels')) })
}

export function useSubscriptions() {
  return useQuery({ queryKey: ['subscriptions'], queryFn: () => ask(api.GET('/subscriptions')) })
}

export function useDeliveries() {
  return useQuery({
    queryKey: ['deliveries'],
    queryFn: () => ask(api.GET('/deliveries', { params: { query: { limit: 100 } } })),
  })
}
