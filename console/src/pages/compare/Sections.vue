<script setup lang="ts">
// The sections that differ as a tree, with counts, and what is set aside.
import { computed } from 'vue'
import type { Comparison, Stats } from '../../api/call'
import { marks } from '../../parts/say'
import { treeOf } from './rows'

const props = defineProps<{ sections: Comparison['sections']; stats: Stats; masked: boolean }>()
const emit = defineEmits<{ pick: [string[]] }>()
const tree = computed(() => treeOf(props.sections))
const asides = computed(() =>
  [
    {
      text: 'expected',
      why: 'What each device has of its own, and what is treated as equal',
      n: props.stats.expected,
    },
    { text: 'changes by itself', why: 'Times and counters', n: props.stats.volatile },
    {
      text: 'not decidable',
      why: 'Secrets that the device writes anew at each show',
      n: props.stats.undecidable,
    },
    { text: 'in another place', why: 'Where order does not count', n: props.stats.order },
    { text: 'blanks alone', why: '', n: props.stats.layout },
  ].filter((a) => a.n),
)
</script>

<template>
  <h2 class="font-semibold mb-1.5">Sections</h2>
  <div class="max-h-[50vh] overflow-y-auto -mx-1.5">
    <component
      :is="b.stats ? 'button' : 'div'"
      v-for="b in tree"
      :key="b.path.join(' > ')"
      class="w-full text-left rounded-[5px] pr-1.5 py-0.5 flex justify-between gap-2"
      :class="b.stats ? 'hover:bg-ground' : 'text-second'"
      :style="{ paddingLeft: `${6 + b.depth * 9}px` }"
      @click="b.stats && emit('pick', b.path)"
    >
      <span class="truncate" :title="b.path.join(' › ')">{{ b.name }}</span>
      <span v-if="b.stats" class="mono text-second whitespace-nowrap">{{ marks(b.stats) }}</span>
    </component>
  </div>
  <template v-if="asides.length">
    <h3 class="text-second text-[11.5px] mt-3 mb-0.5">set aside</h3>
    <p v-for="a in asides" :key="a.text" class="flex justify-between" :title="a.why">
      <span>{{ a.text }}</span><span class="mono text-second">{{ a.n }}</span>
    </p>
  </template>
  <p v-if="masked" class="mt-3 text-[11.5px] text-second">Secrets are hidden.</p>
</template>
