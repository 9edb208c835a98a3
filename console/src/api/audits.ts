// Server state of what should be: findings, scores, drift, documents, waivers.
import { computed, type Ref } from 'vue'
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import {
  api,
  ask,
  zone,
  type DocumentKind,
  type DocumentTrial,
  type FindingQuery,
  type Problem,
} from './call'

export function useFindings(q: Ref<FindingQuery>, enabled: Ref<boolean> = computed(() => true)) {
  return useQuery({
    queryKey: ['audits', 'findings', q],
    queryFn: () => ask(api.GET('/findings', { params: { query: { limit: 999, ...q.value } } })),
    placeholderData: keepPreviousData,
    enabled,
    retry: false,
  })
}

/** One finding with what its rule says. */
export function useFinding(id: Ref<number>) {
  return useQuery({
    queryKey: ['audits', 'finding', id],
    queryFn: () => ask(api.GET('/findings/{id}', { params: { path: { id: id.value } } })),
    enabled: computed(() => id.value > 0),
    retry: false,
  })
}

/** How many severe findings are open. */
export function useOpenFindings() {
  return useQuery({
    queryKey: ['audits', 'open'],
    queryFn: async () =>
      (await ask(api.GET('/findings', { params: { query: { state: 'open', severity: 'high', limit: 1 } } })))
        .total,
  })
}

/** How many running configurations have drifted from their baselines. */
export function useDrifted() {
  return useQuery({
    queryKey: ['audits', 'drifted'],
    queryFn: async () =>
      (await ask(api.GET('/findings', { params: { query: { document: 'baseline:running', limit: 1 } } })))
        .total,
  })
}

export function useScores(
  by: 'device' | 'site' | 'document' | 'item' | 'control' | 'grid',
  selector: Ref<string>,
) {
  return useQuery({
    queryKey: ['audits', 'scores', by, selector],
    queryFn: () =>
      ask(api.GET('/audits/scores', { params: { query: { by, selector: selector.value, days: 30, zone } } })),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useResults(device: Ref<string>) {
  return useQuery({
    queryKey: ['audits', 'results', device],
    queryFn: () => ask(api.GET('/audits/results', { params: { query: { device: device.value, zone } } })),
    retry: false,
  })
}

export function useDrift(selector: Ref<string>) {
  return useQuery({
    queryKey: ['audits', 'drift', selector],
    queryFn: () => ask(api.GET('/drift', { params: { query: { selector: selector.value } } })),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useDocuments() {
  return useQuery({ queryKey: ['audits', 'documents'], queryFn: () => ask(api.GET('/documents', {})) })
}

export function useDocument(kind: Ref<DocumentKind>, name: Ref<string>) {
  return useQuery({
    queryKey: ['audits', 'document', kind, name],
    queryFn: () =>
      ask(api.GET('/documents/{kind}/{name}', { params: { path: { kind: kind.value, name: name.value } } })),
    enabled: computed(() => name.value !== ''),
    retry: false,
  })
}

/** What a text would find, before it counts. */
export function useTrial(kind: Ref<DocumentKind>, text: Ref<string>) {
  return useQuery<DocumentTrial, Problem>({
    queryKey: ['trial', kind, text],
    queryFn: () =>
      ask(
        api.POST('/documents/{kind}/try', {
          params: { path: { kind: kind.value } },
          body: { text: text.value },
        }),
      ),
    enabled: computed(() => text.value !== ''),
    placeholderData: keepPreviousData,
    retry: false,
  })
}

export function useWaivers() {
  return useQuery({ queryKey: ['audits', 'waivers'], queryFn: () => ask(api.GET('/waivers')) })
}
