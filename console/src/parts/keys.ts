import { onBeforeUnmount, onMounted } from 'vue'

const gap = 900 // ms between the keys of a pair

/** Listens for keys ("j") and pairs of keys ("g f") while a component is shown. */
export function onKeys(actions: Record<string, () => void>) {
  let first = ''
  let at = 0
  const press = (e: KeyboardEvent) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.isComposing) return
    const target = e.target as HTMLElement
    if (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || target.isContentEditable) {
      if (e.key === 'Escape') target.blur()
      return
    }
    const pair = first && Date.now() - at < gap ? `${first} ${e.key}` : ''
    const action = actions[pair] ?? (pair ? undefined : actions[e.key])
    first = pair ? '' : e.key
    at = Date.now()
    if (!action) return
    e.preventDefault()
    action()
  }
  onMounted(() => window.addEventListener('keydown', press))
  onBeforeUnmount(() => window.removeEventListener('keydown', press))
}
