<script setup lang="ts">
// A triangle is a change outside agreed hours, a square one inside, a circle one of
// which that cannot be told or for which nothing is agreed.
import { isOutside } from './strip'

defineProps<{ place: string; judged?: boolean }>()
</script>

<template>
  <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true" class="shrink-0">
    <path
      v-if="isOutside(place)"
      d="M6 1 L11.3 10.8 H0.7 Z"
      :style="{
        fill: judged ? 'var(--surface)' : 'var(--alarm-tint)',
        stroke: judged ? 'var(--faint)' : 'var(--alarm)',
      }"
    />
    <rect
      v-else-if="place === 'inside'"
      x="1.5"
      y="1.5"
      width="9"
      height="9"
      rx="1.5"
      :style="{
        fill: judged ? 'var(--surface)' : 'var(--added-tint)',
        stroke: judged ? 'var(--faint)' : 'var(--added)',
      }"
    />
    <circle
      v-else
      cx="6"
      cy="6"
      r="4.6"
      :style="{
        fill: judged ? 'var(--surface)' : 'var(--attention-tint)',
        stroke: judged ? 'var(--faint)' : 'var(--attention)',
      }"
    />
  </svg>
</template>
