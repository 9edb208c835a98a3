<script setup lang="ts">
// Which span, and which changes in it.
import { ref } from 'vue'
import { useRoute } from 'vue-router'
import { zone, type ChangeQuery } from '../../api/call'
import { when } from '../../parts/say'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import Toggle from '../../parts/Toggle.vue'
import { spans } from './spans'

const props = defineProps<{ query: ChangeQuery }>()
const emit = defineEmits<{ go: [Record<string, string>] }>()
const route = useRoute()
const text = (k: string) => (typeof route.query[k] === 'string' ? String(route.query[k]) : '')
const go = (change: Record<string, string>) => emit('go', change)
const flip = (k: string, v: string) => go({ [k]: text(k) === v ? '' : v })
const typed = (e: Event) => (e.target as HTMLInputElement).value
const filters = ref(!!(text('selector') || text('account') || text('section')))
function report(form: string) {
  const q = new URLSearchParams({ form, zone })
  for (const [k, v] of Object.entries(props.query)) {
    if (Array.isArray(v)) v.forEach((x) => q.append(k, x))
    else q.set(k, String(v))
  }
  return `/api/v1/changes/report?${q}`
}
</script>

<template>
  <div class="flex flex-wrap gap-1.5 items-center mb-3">
    <Toggle
      v-for="(name, key) in spans"
      :key="key"
      :on="query.from === key && !text('to')"
      @click="go({ from: key, to: '' })"
    >
      {{ name }}
    </Toggle>
    <button v-if="text('to')" class="tag py-px bg-accent-tint text-accent" @click="go({ from: '', to: '' })">
      {{ when(text('from')) }} to {{ when(text('to')) }} ×
    </button>
    <span class="w-px h-4 bg-line mx-1"></span>
    <Toggle
      v-for="[key, value, name] in [
        ['verdict', 'open', 'open'],
        ['place', 'outside freeze', 'outside agreed hours'],
        ['severity', 'high', 'severe'],
      ] as const"
      :key="name"
      :on="text(key) === value"
      @click="flip(key, value)"
    >
      {{ name }}
    </Toggle>
    <button class="control ml-auto" :aria-expanded="filters" @click="filters = !filters">Filter</button>
    <a class="control" :href="report('pdf')" download>Report (PDF)</a>
    <a class="control" :href="report('csv')" download>CSV</a>
  </div>
  <form v-if="filters" class="flex flex-wrap gap-3 items-end mb-3" @submit.prevent>
    <Field
      :model-value="text('selector')"
      label="Devices (selector)"
      placeholder="all devices"
      wide
      @change="(e: Event) => go({ selector: typed(e) })"
    />
    <Field :model-value="text('account')" label="Made by" @change="(e: Event) => go({ account: typed(e) })" />
    <Field :model-value="text('section')" label="Section" @change="(e: Event) => go({ section: typed(e) })" />
    <Choice
      :model-value="text('severity')"
      label="Severity"
      :options="{ '': 'any', medium: 'medium and above', high: 'high' }"
      @update:model-value="(v) => go({ severity: v ?? '' })"
    />
  </form>
</template>
