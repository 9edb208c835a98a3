<script setup lang="ts">
// Where word can go, and a form to set one.
import { computed, ref } from 'vue'
import { api, ask } from '../../api/call'
import { useChannels } from '../../api/happenings'
import { useAct } from '../../parts/act'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import Trouble from '../../parts/Trouble.vue'

defineProps<{ mayChange: boolean }>()
const channels = useChannels()
const list = computed(() => channels.data.value ?? [])
const { failed, act } = useAct('channels')
const form = ref({ name: 'team', kind: 'mail', target: '', credential: '' })
const open = ref(false)
const samples: Record<string, string> = {
  mail: 'noc@skerry.example',
  hook: 'https://desk.skerry.example/hooks/changes',
  syslog: 'tls://logs.skerry.example:6514',
}
async function save() {
  const c = form.value
  const well = await act(() =>
    ask(
      api.PUT('/channels/{name}', {
        params: { path: { name: c.name } },
        body: {
          kind: c.kind as 'mail',
          ...(c.kind === 'console' ? {} : { target: c.target }),
          ...(c.kind === 'hook' && c.credential ? { credential: c.credential } : {}),
        },
      }),
    ),
  )
  if (well) open.value = false
}
const tested = ref('')
async function tryIt(name: string) {
  tested.value = ''
  if (await act(() => ask(api.POST('/channels/{name}/test', { params: { path: { name } } }))))
    tested.value = name
}
</script>

<template>
  <section class="card px-3.5 py-3">
    <h2 class="font-semibold mb-1 flex justify-between items-center">
      Channels
      <button class="control font-normal" :disabled="!mayChange" @click="open = !open">Set a channel</button>
    </h2>
    <Trouble :error="failed ?? channels.error.value" />
    <form v-if="open" class="flex flex-wrap gap-3 items-end my-2" @submit.prevent="save">
      <Field v-model="form.name" label="Channel" required />
      <Choice
        v-model="form.kind"
        label="Kind"
        :options="{
          mail: 'mail',
          hook: 'web address (CloudEvents)',
          syslog: 'syslog',
          console: 'console alone',
        }"
      />
      <Field
        v-if="form.kind !== 'console'"
        v-model="form.target"
        :label="form.kind === 'mail' ? 'Addresses, separated by commas' : 'Address'"
        required
        wide
        :placeholder="samples[form.kind] ?? ''"
      />
      <Field v-if="form.kind === 'hook'" v-model="form.credential" label="Signed by the credential" />
      <button class="main-button">Set</button>
    </form>
    <div v-for="c in list" :key="c.name" class="flex gap-2 items-center py-1">
      <p class="flex-1 min-w-0">
        <b>{{ c.name }}</b> <span class="text-second">{{ c.kind }}</span><span
          class="block text-[11.5px] text-second truncate"
          >{{ c.target || 'the list of what happened, here' }}</span
        >
      </p>
      <span v-if="tested === c.name" class="text-second" aria-live="polite">taken</span>
      <button v-if="c.kind !== 'console'" class="control" :disabled="!mayChange" @click="tryIt(c.name)">
        Test
      </button>
    </div>
  </section>
</template>
