<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type Session, type Understood } from '../../api/call'
import { useQuestions, useSenders, useSignals } from '../../api/happenings'
import { useDevices } from '../../api/queries'
import { useAct } from '../../parts/act'
import { plural } from '../../parts/say'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const mayChange = computed(() => props.session.rights.includes('administer'))
const selector = ref('')
const signals = useSignals(selector)
const senders = useSenders()
const questions = useQuestions()
const devices = useDevices(ref(''))
const names = computed(() =>
  Object.fromEntries([
    ['', 'a relay: many devices'],
    ...(devices.data.value ?? []).map((d) => [d.name, d.name]),
  ]),
)
const list = computed(() => signals.data.value?.items ?? [])
const waiting = computed(() => list.value.filter((s) => s.state === 'waiting').length)
const x = computed(() => senders.data.value)
const { failed, act } = useAct('senders', 'questions', 'signals')

const line = ref('')
const understood = ref<Understood | null>(null)
const test = () =>
  act(async () => {
    understood.value = await ask(api.POST('/signals/test', { body: { line: line.value } }))
  })
const means = computed(() => {
  const u = understood.value
  if (!u) return ''
  if (!u.device && !u.dialect) return 'It is of nobody that is known, so nothing is understood.'
  if (!u.rule) return `Nothing: no signal of the dialect ${u.dialect} fits.`
  if (!u.changed) return `No change, by signal ${u.rule} of the dialect ${u.dialect}.`
  if (u.ours) return 'Our own doing: it is ignored.'
  return `The configuration of ${u.device || 'its device'} has changed${u.account ? `, by ${u.account}` : ''}${u.source ? ` from ${u.source}` : ''}.`
})

const assign = ref({ name: '', device: '', address: '', host: '' })
const assigning = ref(false)
function begin(address: string, host: string) {
  assign.value = { name: host || address, device: '', address, host }
  assigning.value = true
}
async function save() {
  const a = assign.value
  const well = await act(() =>
    ask(
      api.PUT('/senders/{name}', {
        params: { path: { name: a.name } },
        body: { address: a.address, ...(a.device ? { device: a.device, host: a.host } : {}) },
      }),
    ),
  )
  if (well) assigning.value = false
}
const states = {
  waiting: 'waits for the capture',
  changed: '',
  nothing: 'nothing had changed',
  ours: 'our own doing',
}
</script>

<template>
  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="senders.isPending.value">Looking …</template>
    <template v-else-if="x">
      {{ plural(x.received, 'message') }} since the start, {{ x.understood.toLocaleString() }} told of a
      change<template v-if="waiting"
        >; {{ waiting }} {{ waiting === 1 ? 'waits' : 'wait' }} for a capture</template
      ><template v-if="x.strangers.length">; {{ plural(x.strangers.length, 'sender') }} nobody knows</template
      >.
    </template>
  </h1>
  <Trouble :error="signals.error.value ?? senders.error.value ?? failed" />
  <section class="card px-3.5 py-3 mb-3.5">
    <form class="flex gap-2 items-end" @submit.prevent="test">
      <Field
        v-model="line"
        label="Paste a message to see what would be understood; nothing else happens"
        placeholder="<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by neteng from 198.51.100.7 over ssh"
        wide
      />
      <button class="control h-[34px]" :disabled="!line">Test</button>
    </form>
    <p v-if="understood" class="mt-2" aria-live="polite">{{ means }}</p>
  </section>
  <section v-if="x?.strangers.length || x?.senders.length" class="card px-3.5 py-3 mb-3.5">
    <h2 class="font-semibold mb-1">Senders</h2>
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Whose', width: '170px' },
          { title: 'Address', width: '140px' },
          { title: 'Host', width: '150px' },
          { title: 'Messages', width: '80px', right: true },
          { title: 'Last', width: '120px' },
          { title: 'Sample' },
          { title: 'Assign', width: '90px', hidden: true },
        ]"
      />
      <tbody>
        <tr
          v-for="s in x.strangers"
          :key="s.address + s.host + s.listener"
          class="border-b border-line h-[33px]"
        >
          <td class="text-attention">nobody known</td>
          <td class="mono">{{ s.address }}</td>
          <td class="mono">{{ s.host }}</td>
          <td class="text-right pr-3">{{ s.count.toLocaleString() }}</td>
          <td><Moment :at="s.last" /></td>
          <td class="mono truncate max-w-0" :title="s.sample">{{ s.sample }}</td>
          <td class="text-right">
            <button class="control" :disabled="!mayChange" @click="begin(s.address, s.host)">Assign</button>
          </td>
        </tr>
        <tr v-for="s in x.senders" :key="s.name" class="border-b border-line last:border-0 h-[33px]">
          <td>{{ s.device || 'a relay' }}</td>
          <td class="mono">{{ s.address }}</td>
          <td class="mono">{{ s.host }}{{ s.hasKey ? ' with a key' : '' }}</td>
          <td></td>
          <td></td>
          <td class="text-second">{{ s.name }}, by {{ s.account }}</td>
          <td class="text-right">
            <Sure
              v-if="mayChange"
              :what="s.name"
              @sure="act(() => ask(api.DELETE('/senders/{name}', { params: { path: { name: s.name } } })))"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="assigning" class="flex flex-wrap gap-3 items-end mt-3" @submit.prevent="save">
      <Field v-model="assign.name" label="Name" required />
      <Field v-model="assign.address" label="Address" />
      <Field v-model="assign.host" label="Host" />
      <Choice v-model="assign.device" label="Whose" :options="names" />
      <button class="main-button">Assign</button>
    </form>
  </section>
  <section class="card px-3.5 py-1 mb-3.5">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Arrived', width: '140px' },
          { title: 'Device', width: '150px' },
          { title: 'By', width: '120px' },
          { title: 'From', width: '140px' },
          { title: 'Medium', width: '100px' },
          { title: 'Said' },
          { title: 'Outcome', width: '180px' },
        ]"
      />
      <tbody>
        <tr v-for="s in list" :key="s.id" class="border-b border-line last:border-0 h-[33px]">
          <td><Moment :at="s.at" /></td>
          <td>
            <RouterLink class="hover:underline" :to="{ name: 'device', query: { name: s.device } }">{{
              s.device
            }}</RouterLink>
          </td>
          <td>{{ s.account }}</td>
          <td class="mono">{{ s.source }}</td>
          <td>{{ s.medium }}{{ s.count > 1 ? `, ${s.count} ×` : '' }}</td>
          <td class="mono truncate max-w-0 pr-3" :title="s.text">{{ s.text }}</td>
          <td>
            <RouterLink
              v-if="s.change"
              class="underline"
              :to="{ name: 'changes', query: { change: s.change } }"
              >change #{{ s.change }}</RouterLink
            >
            <span v-else class="text-second">{{ states[s.state] }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="signals.data.value && !list.length" class="py-3 text-second">
      No device has said that it was changed.
    </p>
  </section>
  <section class="card px-3.5 py-3">
    <h2 class="font-semibold mb-1">Asked every few minutes</h2>
    <p v-for="q in questions.data.value ?? []" :key="q.name">
      <b>{{ q.name }}</b>: <span class="mono">{{ q.selector || 'all devices' }}</span>, every
      {{ plural(q.minutes, 'minute') }}
    </p>
    <p v-if="!questions.data.value?.length" class="text-second">
      Nobody. Devices that say nothing by themselves can be:
      <code class="mono">vergekeep signal question set</code>.
    </p>
    <p v-if="x" class="text-[11.5px] text-second mt-2">
      Listens on {{ x.listeners.join(', ') || 'nothing' }}.
    </p>
  </section>
</template>
