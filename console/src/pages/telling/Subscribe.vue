<script setup lang="ts">
// A subscription to make.
import { computed, ref } from 'vue'
import { zone, type SubscriptionEdit } from '../../api/call'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import { cronOf } from '../../parts/cron'
import { happenings, type Happening } from './events'

defineProps<{ channels: Record<string, string> }>()
const emit = defineEmits<{ done: [string, SubscriptionEdit]; preview: [SubscriptionEdit] }>()
const form = ref({
  name: '',
  events: ['outside'] as Happening[],
  selector: '',
  severity: 'low',
  channel: 'team',
  when: 'once',
  time: '07:00',
  idle: false,
  quiet: '',
})
const edit = computed<SubscriptionEdit>(() => {
  const f = form.value
  return {
    events: f.events,
    selector: f.selector,
    severity: f.severity as 'low',
    channel: f.channel,
    zone,
    quiet: f.quiet,
    ...(f.when === 'digest' ? { digest: cronOf('night', f.time, '', ''), idle: f.idle } : {}),
  }
})
</script>

<template>
  <form
    class="card p-3.5 mb-3.5 flex flex-wrap gap-3 items-end"
    @submit.prevent="emit('done', form.name, edit)"
  >
    <Field v-model="form.name" label="Name" required />
    <fieldset class="text-[11.5px] text-second">
      Of
      <span class="flex gap-3 h-[34px] items-center text-[13.5px] text-ink">
        <label v-for="(said, kind) in happenings" :key="kind" class="flex gap-1 items-center"
          ><input v-model="form.events" type="checkbox" :value="kind" /> {{ said }}</label
        >
      </span>
    </fieldset>
    <Field v-model="form.selector" label="Devices (selector)" placeholder="all devices" wide />
    <Choice
      v-model="form.severity"
      label="Severity"
      :options="{ low: 'any', medium: 'medium and above', high: 'high' }"
    />
    <Choice v-model="form.channel" label="To" :options="channels" />
    <Choice v-model="form.when" label="When" :options="{ once: 'at once', digest: 'together, once a day' }" />
    <template v-if="form.when === 'digest'">
      <Field v-model="form.time" label="Time" type="time" />
      <label class="flex gap-1.5 h-[34px] items-center"
        ><input v-model="form.idle" type="checkbox" /> says so if nothing happened</label
      >
    </template>
    <Field v-else v-model="form.quiet" label="Quiet hours" placeholder="22:00-06:00" />
    <button type="button" class="control h-[34px]" @click="emit('preview', edit)">Preview</button>
    <button class="main-button">Subscribe</button>
  </form>
</template>
