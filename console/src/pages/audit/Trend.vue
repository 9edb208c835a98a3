<script setup lang="ts">
// How much held, day by day.
import { computed } from 'vue'
import type { Score } from '../../api/call'
import { when } from '../../parts/say'
import { percent } from './grid'

const props = defineProps<{ trend: Score[] }>()
const drawn = computed(() => props.trend.filter((t) => t.passed + t.failed + t.undecidable > 0))
const low = computed(() => Math.min(0.95, ...drawn.value.map((t) => t.share)))
const points = computed(() =>
  drawn.value
    .map((t, i) => {
      const x = drawn.value.length > 1 ? (i / (drawn.value.length - 1)) * 300 : 0
      return `${x.toFixed(1)},${(4 + (1 - (t.share - low.value) / (1 - low.value)) * 34).toFixed(1)}`
    })
    .join(' '),
)
</script>

<template>
  <figure v-if="drawn.length > 1" class="w-[300px] max-[1100px]:hidden">
    <svg
      viewBox="0 0 300 42"
      class="w-full h-[42px]"
      role="img"
      :aria-label="`From ${percent(drawn[0]!.share)} to ${percent(drawn.at(-1)!.share)} in ${drawn.length - 1} days`"
    >
      <polyline :points="points" class="fill-none stroke-accent" stroke-width="1.5" />
    </svg>
    <figcaption class="flex justify-between text-[11.5px] text-second">
      <span>{{ percent(drawn[0]!.share) }} {{ when(drawn[0]!.at) }}</span>
      <span>{{ percent(drawn.at(-1)!.share) }} now</span>
    </figcaption>
  </figure>
</template>
