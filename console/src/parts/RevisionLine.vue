<script setup lang="ts">
// Revisions on a time line, spread evenly where they lie too close together.
import { computed, ref } from 'vue'
import type { Revision } from '../api/call'
import { exact, when } from './say'

const props = defineProps<{ revisions: Revision[]; selected: number }>()
const emit = defineEmits<{ pick: [number]; compare: [number] }>()

const shown = 12
const list = computed(() => props.revisions.slice(0, shown).reverse())
const left = computed(() => Math.max(0, props.revisions.length - shown))

/** Places in per cent: by time, but at least one step apart. */
const places = computed(() => {
  const times = list.value.map((r) => new Date(r.firstSeen).getTime())
  const n = times.length
  if (n === 1) return [50]
  const first = times[0]!
  const span = times[n - 1]! - first || 1
  const step = 92 / Math.max(n - 1, 1) / 1.35
  const at = times.map((t) => 4 + ((t - first) / span) * 92)
  for (let i = 1; i < n; i++) at[i] = Math.max(at[i]!, at[i - 1]! + step)
  const over = at[n - 1]! - 96
  if (over > 0) for (let i = 0; i < n; i++) at[i] = 4 + (at[i]! - 4) * (92 / (92 + over))
  return at
})
function pick(compare: boolean, number: number) {
  if (compare) emit('compare', number)
  else emit('pick', number)
}
/** The slider goes over time: it picks what was in force then. */
const span = computed(() => {
  const first = new Date(props.revisions.at(-1)!.firstSeen).getTime()
  return { first, last: Math.max(Date.now(), first + 60_000) }
})
const at = ref<number>()
const inForce = computed(() => {
  const t = at.value
  if (t === undefined) return undefined
  return props.revisions.find((r) => new Date(r.firstSeen).getTime() <= t) ?? props.revisions.at(-1)
})
function slide(e: Event) {
  at.value = Number((e.target as HTMLInputElement).value)
  if (inForce.value && inForce.value.number !== props.selected) emit('pick', inForce.value.number)
}
function label(r: Revision) {
  return r.sameAs ? `@${r.number} = @${r.sameAs}` : `@${r.number}`
}
</script>

<template>
  <div class="card px-3.5 pt-3 pb-2 mb-3.5">
    <div class="relative h-[74px]" role="group" aria-label="Revisions, oldest first">
      <div class="absolute left-0 right-0 top-[18px] border-t-2 border-line" aria-hidden="true"></div>
      <button
        v-for="(r, i) in list"
        :key="r.number"
        class="absolute -translate-x-1/2 flex flex-col items-center group"
        :style="{ left: `${places[i]}%` }"
        :aria-pressed="selected === r.number"
        :title="`${exact(r.firstSeen)}${r.suspect ? ' · suspect: ' + r.suspect : ''} — with Shift: compare with the one shown`"
        @click="(e) => pick(e.shiftKey, r.number)"
      >
        <span class="h-[38px] grid place-items-center">
          <span
            class="block rounded-full border-2 bg-surface group-hover:border-accent"
            :class="[
              r.suspect ? 'border-alarm' : selected === r.number ? 'border-accent' : 'border-faint',
              selected === r.number ? 'w-4 h-4 !bg-accent-tint' : 'w-3 h-3',
              i === list.length - 1 && 'ring-2 ring-offset-2 ring-offset-surface ring-line',
            ]"
          ></span>
        </span>
        <span
          class="text-[11.5px] whitespace-nowrap leading-tight"
          :class="selected === r.number ? 'text-accent font-semibold' : 'text-second'"
          >{{ label(r) }}</span
        >
        <span
          v-if="selected === r.number"
          class="text-[11.5px] text-accent whitespace-nowrap leading-tight"
          >{{ when(r.firstSeen) }}</span
        >
      </button>
    </div>
    <label v-if="revisions.length > 1" class="flex items-center gap-3 text-[11.5px] text-second">
      As of
      <input
        type="range"
        class="flex-1 accent-accent"
        :min="span.first"
        :max="span.last"
        :step="60000"
        :value="at ?? span.last"
        @input="slide"
      />
      <span class="w-[190px] text-right"
        >{{ at === undefined ? 'now' : when(new Date(at).toISOString()) }}: @{{
          inForce?.number ?? selected
        }}</span
      >
    </label>
    <p v-if="left" class="text-[11.5px] text-second">{{ left }} older ones are in the list below.</p>
  </div>
</template>
