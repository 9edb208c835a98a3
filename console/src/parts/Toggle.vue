<script setup lang="ts">
// A small button that is on or off, one of several as a rule.
defineProps<{ on: boolean }>()
</script>

<template>
  <button
    type="button"
    class="tag py-px"
    :class="on ? 'bg-accent-tint text-accent' : 'border border-line text-second hover:text-ink'"
    :aria-pressed="on"
  >
    <slot />
  </button>
</template>
