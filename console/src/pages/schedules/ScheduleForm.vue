<script setup lang="ts">
// A schedule to add, to copy or to change.
import { ref } from 'vue'
import { zone, type NewSchedule, type Schedule } from '../../api/call'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import { cronOf, presetOf } from '../../parts/cron'

const props = defineProps<{ from?: Schedule | undefined; verb: string }>()
const emit = defineEmits<{ done: [NewSchedule] }>()
const form = ref({
  name: props.verb === 'Copy' ? `${props.from?.name} copy` : (props.from?.name ?? ''),
  description: props.from?.description ?? '',
  selector: props.from?.selector ?? '',
  zone: props.from?.zone ?? zone,
  cron: props.from?.expression ?? '0 2 * * *',
  spread: props.from?.spreadMinutes ?? 0,
  tries: props.from?.tries ?? 3,
  missed: props.from?.missed ?? 'run',
  ...presetOf(props.from?.expression ?? '0 2 * * *'),
})
const names = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday']
const days = Object.fromEntries(names.map((d, i) => [String(i), d]))
function submit() {
  const f = form.value
  emit('done', {
    name: f.name,
    description: f.description,
    expression: cronOf(f.preset, f.time, f.day, f.cron),
    zone: f.zone,
    selector: f.selector,
    spreadMinutes: Number(f.spread) || 0,
    tries: Number(f.tries) || 1,
    missed: f.missed as 'run' | 'skip',
  })
}
</script>

<template>
  <form class="flex flex-wrap gap-3 items-end" @submit.prevent="submit">
    <Field v-model="form.name" label="Name" required />
    <Field v-model="form.description" label="Description" wide />
    <Field v-model="form.selector" label="Over (selector)" placeholder="all devices" wide />
    <Choice
      v-model="form.preset"
      label="When"
      :options="{ night: 'each day', week: 'once a week', month: 'once a month', cron: 'cron' }"
    />
    <Field v-if="form.preset === 'cron'" v-model="form.cron" label="Five fields" />
    <template v-else>
      <Choice v-if="form.preset === 'week'" v-model="form.day" label="Day" :options="days" />
      <Field v-if="form.preset === 'month'" v-model="form.day" label="Day of the month" />
      <Field v-model="form.time" label="Time" type="time" required />
    </template>
    <Field v-model="form.zone" label="Time zone" required />
    <Field v-model.number="form.spread" label="Spread over minutes" type="number" />
    <Field v-model.number="form.tries" label="Tries" type="number" />
    <Choice
      v-model="form.missed"
      label="Missed in a downtime"
      :options="{ run: 'run afterwards', skip: 'pass over' }"
    />
    <button class="main-button">{{ verb }}</button>
  </form>
</template>
