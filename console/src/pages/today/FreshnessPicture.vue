<script setup lang="ts">
// Stacked bars over time: what is fresh has the least weight, what is not stands on top.
import { computed } from 'vue'
import type { FreshnessDay } from '../../api/call'
import { when } from '../../parts/say'
import { bars } from './bars'

const props = defineProps<{ history: FreshnessDay[] }>()
const drawn = computed(() => bars(props.history))
const words = computed(() => {
  const last = props.history.at(-1)
  return last
    ? `${last.counts.fresh} fresh, ${last.counts.late} late, ${last.counts.stale} stale, ${last.counts.none} without a capture`
    : ''
})
</script>

<template>
  <p v-if="drawn.length < 2" class="text-second py-1.5">
    It is noted after each round; there is nothing to draw before the second.
  </p>
  <template v-else>
    <svg
      class="w-full h-[92px] block"
      viewBox="0 0 1000 92"
      preserveAspectRatio="none"
      role="img"
      :aria-label="`Freshness of the last ${drawn.length} notes; at the end ${words}`"
    >
      <g v-for="b in drawn" :key="b.at">
        <title>{{ when(b.at) }}: {{ b.title }}</title>
        <rect
          v-for="p in b.parts"
          :key="p.kind"
          :x="b.x"
          :y="p.y"
          :width="b.width"
          :height="p.height"
          :class="{
            'fill-accent-tint': p.kind === 'fresh',
            'fill-attention': p.kind === 'late',
            'fill-alarm': p.kind === 'stale' || p.kind === 'none',
          }"
        />
      </g>
    </svg>
    <p class="flex justify-between text-[11.5px] text-second mt-1">
      <span>{{ when(drawn[0]!.at) }}</span>
      <span class="flex gap-4">
        <span
          ><span class="inline-block w-2.5 h-2.5 bg-accent-tint border border-line mr-1"></span>fresh</span
        >
        <span><span class="inline-block w-2.5 h-2.5 bg-attention mr-1"></span>late</span>
        <span><span class="inline-block w-2.5 h-2.5 bg-alarm mr-1"></span>stale or none</span>
      </span>
      <span>{{ when(drawn.at(-1)!.at) }}</span>
    </p>
  </template>
</template>
