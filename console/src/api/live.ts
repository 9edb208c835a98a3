// What the service tells as it happens makes the affected queries stale. Bursts
// are gathered, so that a round of thousands does not fetch thousands of times.
import type { QueryClient } from '@tanstack/vue-query'
import type { RoundEvent } from './call'

const pause = 700

export function listen(queries: QueryClient): () => void {
  const stale = new Set<string>()
  let timer: number | undefined
  const gather = (...keys: string[]) => {
    keys.forEach((k) => stale.add(k))
    timer ??= window.setTimeout(() => {
      timer = undefined
      for (const key of stale) void queries.invalidateQueries({ queryKey: JSON.parse(key) })
      stale.clear()
    }, pause)
  }
  const source = new EventSource('/api/v1/events')
  const on = (name: string, f: (e: RoundEvent) => void) =>
    source.addEventListener(name, (e) => f(JSON.parse((e as MessageEvent<string>).data)))
  on('round-started', () => gather('["rounds"]'))
  on('round-ended', (e) => gather('["rounds"]', '["devices"]', `["round",${e.round}]`))
  on('visit-ended', (e) => {
    gather(`["round",${e.round}]`, '["rounds"]')
    if (e.visit && e.visit.outcome !== 'unchanged') {
      const name = JSON.stringify(e.visit.device)
      gather(`["device",${name}]`, `["revisions",${name}]`)
    }
  })
  // After a gap in the stream anything may have happened.
  source.addEventListener('open', () => gather('["rounds"]', '["devices"]'))
  return () => {
    source.close()
    window.clearTimeout(timer)
  }
}
