// Something that a person asks the service to do: whether it goes on, what it
// said if it failed, and what has to be looked up anew afterwards.
import { ref } from 'vue'
import { useQueryClient } from '@tanstack/vue-query'

export function useAct(...keys: string[]) {
  const queries = useQueryClient()
  const failed = ref<Error | null>(null)
  const busy = ref(false)
  /** Is true where the call went well. */
  async function act(call: () => Promise<unknown>): Promise<boolean> {
    failed.value = null
    busy.value = true
    try {
      await call()
      return true
    } catch (e) {
      failed.value = e as Error
      return false
    } finally {
      busy.value = false
      for (const key of keys) await queries.invalidateQueries({ queryKey: [key] })
    }
  }
  return { failed, busy, act }
}
