<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, zone, type Session } from '../../api/call'
import { useWindows } from '../../api/happenings'
import { useAct } from '../../parts/act'
import { plural, when } from '../../parts/say'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import HeadRow from '../../parts/HeadRow.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const windows = useWindows()
const mayChange = computed(() => props.session.rights.includes('administer'))
const list = computed(() => windows.data.value ?? [])
const open = computed(() => list.value.filter((w) => w.open))
const { failed, act } = useAct('windows')
const adding = ref(false)
const tomorrow = new Date(Date.now() + 86_400_000).toLocaleDateString('sv') + 'T22:00'
const form = ref({ name: '', selector: '', start: tomorrow, hours: 4, repeat: '', zone, kind: 'window' })
const rules = {
  '': 'once',
  'FREQ=DAILY': 'each day',
  'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR': 'Monday to Friday',
  'FREQ=WEEKLY': 'once a week',
  'FREQ=MONTHLY': 'once a month',
}
async function save() {
  const f = form.value
  const well = await act(() =>
    ask(
      api.PUT('/windows/{name}', {
        params: { path: { name: f.name } },
        body: {
          start: f.start,
          minutes: Math.round(Number(f.hours) * 60),
          rule: f.repeat,
          zone: f.zone,
          selector: f.selector,
          freeze: f.kind === 'freeze',
        },
      }),
    ),
  )
  if (well) adding.value = false
}
const remove = (name: string) => act(() => ask(api.DELETE('/windows/{name}', { params: { path: { name } } })))
async function read(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (!file) return
  const text = await file.text()
  await act(() => ask(api.POST('/windows/calendar', { body: { text, zone } })))
}
</script>

<template>
  <header class="flex gap-2 items-start mb-3">
    <h1 class="answer flex-1">
      <template v-if="windows.isPending.value">Looking …</template>
      <template v-else-if="!list.length">No hours are agreed, so that no change is outside them.</template>
      <template v-else-if="open.length">Open now: {{ open.map((w) => w.name).join(', ') }}.</template>
      <template v-else>{{ plural(list.length, 'window') }} agreed; none is open now.</template>
    </h1>
    <a class="control" href="/api/v1/windows/calendar" download>Calendar (.ics)</a>
    <label v-if="mayChange" class="control cursor-pointer"
      >Read a calendar <input type="file" accept=".ics,text/calendar" class="sr-only" @change="read"
    /></label>
    <button
      class="main-button"
      :disabled="!mayChange"
      :title="mayChange ? '' : 'This takes the right administer'"
      @click="adding = !adding"
    >
      Agree on hours
    </button>
  </header>
  <Trouble :error="windows.error.value ?? failed" />
  <form v-if="adding" class="card p-3.5 mb-3.5 flex flex-wrap gap-3 items-end" @submit.prevent="save">
    <Field v-model="form.name" label="Name" required />
    <Choice
      v-model="form.kind"
      label="What"
      :options="{ window: 'changes are made', freeze: 'nothing changes' }"
    />
    <Field v-model="form.selector" label="Devices (selector)" placeholder="all devices" wide />
    <Field v-model="form.start" label="First opening" type="datetime-local" required />
    <Field v-model.number="form.hours" label="Hours" type="number" required />
    <Choice v-model="form.repeat" label="Again" :options="rules" />
    <Field v-model="form.zone" label="Time zone" required />
    <button class="main-button">Agree</button>
  </form>
  <div v-if="list.length" class="card px-3.5 py-1">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Name' },
          { title: 'What', width: '90px' },
          { title: 'Devices' },
          { title: 'When' },
          { title: 'Next', width: '140px' },
          { title: 'Delete', width: '80px', hidden: true },
        ]"
      />
      <tbody>
        <tr v-for="w in list" :key="w.name" class="border-b border-line last:border-0 h-[40px] align-top">
          <td class="py-2 pr-3">
            <b>{{ w.name }}</b><span class="block text-[11.5px] text-second">{{ w.remark }}</span>
          </td>
          <td class="py-2">
            <span
              class="tag"
              :class="w.freeze ? 'bg-alarm-tint text-alarm' : 'border border-line text-second'"
              >{{ w.freeze ? 'freeze' : 'window' }}</span
            >
          </td>
          <td class="py-2 pr-3 mono break-words">{{ w.selector || 'all devices' }}</td>
          <td class="py-2 pr-3">{{ w.said }}</td>
          <td class="py-2">{{ w.open ? 'open now' : w.next ? when(w.next) : 'never again' }}</td>
          <td class="py-1.5 text-right"><Sure v-if="mayChange" :what="w.name" @sure="remove(w.name)" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
