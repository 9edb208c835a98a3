<script setup lang="ts">
// A verdict on several changes at once.
import { ref } from 'vue'
import { api, ask } from '../../api/call'
import { useAct } from '../../parts/act'
import { plural } from '../../parts/say'
import Field from '../../parts/Field.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ ids: number[] }>()
const emit = defineEmits<{ done: [] }>()
const reference = ref('')
const { failed, busy, act } = useAct('changes', 'change-overview')
async function judge(verdict: 'authorised' | 'unauthorised') {
  const body = {
    ids: props.ids,
    verdict,
    ...(verdict === 'authorised' ? { reference: reference.value } : {}),
  }
  if (await act(() => ask(api.POST('/changes/verdicts', { body })))) emit('done')
}
</script>

<template>
  <div class="card px-3.5 py-2 mb-2 sticky top-2 z-10 shadow">
    <Trouble :error="failed" />
    <div class="flex flex-wrap gap-3 items-end">
      <b class="self-center">{{ plural(ids.length, 'change') }}</b>
      <Field v-model="reference" label="Reference" placeholder="ticket 2077" wide />
      <button class="control h-[34px]" :disabled="!reference || busy" @click="judge('authorised')">
        Authorised
      </button>
      <button class="control h-[34px]" :disabled="busy" @click="judge('unauthorised')">Not authorised</button>
      <button class="control h-[34px]" @click="emit('done')">None of them</button>
    </div>
  </div>
</template>
