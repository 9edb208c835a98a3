<script setup lang="ts">
import type { Half } from './rows'

defineProps<{ half: Half; digits: number; current: boolean; note: string }>()
</script>

<template>
  <div
    class="flex whitespace-pre h-5 overflow-hidden border-l-2"
    :class="[half.tone, current ? 'border-accent' : 'border-transparent']"
  >
    <span
      class="text-right pl-2 pr-2 select-none shrink-0"
      :class="half.tone ? '' : 'text-faint'"
      :style="{ width: `calc(${digits}ch + 1.2rem)` }"
      >{{ half.number }}</span
    >
    <span class="w-[2.5ch] text-center shrink-0 select-none">{{ half.mark }}</span>
    <span class="overflow-hidden text-ellipsis" :title="half.pieces.map((p) => p.text).join('')"
      ><template v-for="(p, i) in half.pieces" :key="i"
        ><span v-if="p.strong" class="underline decoration-2 underline-offset-2">{{ p.text }}</span
        ><template v-else>{{ p.text }}</template></template
      ></span
    >
    <span v-if="note && half.number" class="ml-auto pl-4 pr-3 font-sans text-[11.5px] shrink-0">{{
      note
    }}</span>
  </div>
</template>
