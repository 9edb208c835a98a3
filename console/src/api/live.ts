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
  let source: EventSource | undefined
  const open = () => {
    if (source || document.hidden) return
    source = new EventSource('/api/v1/events')
    const on = (name: string, f: (e: RoundEvent) => void) =>
      source?.addEventListener(name, (e) => f(JSON.parse((e as MessageEvent<string>).data)))
    on('round-started', () => gather('["rounds"]'))
    on('round-ended', (e) => gather('["rounds"]', '["devices"]', `["round",${e.round}]`))
    on('visit-ended', (e) => {
      gather(`["round",${e.round}]`, '["rounds"]')
      if (e.visit && e.visit.outcome !== 'unchanged') {
        const name = JSON.stringify(e.visit.device)
        gather(`["device",${name}]`, `["revisions",${name}]`)
      }
    })
    const changed = () => gather('["changes"]', '["change-overview"]', '["signals"]')
    source.addEventListener('change', changed)
    source.addEventListener('audit', () => gather('["audits"]'))
    source.addEventListener('notice', () => gather('["deliveries"]'))
    // After a gap in the stream anything may have happened.
    source.addEventListener('open', () => gather('["rounds"]', '["devices"]', '["changes"]'))
  }
  const close = () => {
    source?.close()
    source = undefined
  }
  // A browser has six connections to a service: a page that nobody looks at
  // gives its own back.
  const look = () => (document.hidden ? close() : open())
  document.addEventListener('visibilitychange', look)
  window.addEventListener('pagehide', close)
  window.addEventListener('pageshow', open)
  open()
  return () => {
    document.removeEventListener('visibilitychange', look)
    window.removeEventListener('pagehide', close)
    window.removeEventListener('pageshow', open)
    close()
    window.clearTimeout(timer)
  }
}
