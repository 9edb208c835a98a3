<script setup lang="ts">
// A change in a line, which folds it out.
import { computed } from 'vue'
import type { Change } from '../../api/call'
import { marks, when } from '../../parts/say'
import Shape from './Shape.vue'
import { isOutside } from './strip'

const props = defineProps<{ change: Change; open: boolean }>()
const emit = defineEmits<{ toggle: [] }>()
const happened = computed(() => {
  const c = props.change
  return c.first ? when(c.last) : `${when(c.since)} to ${when(c.found)}`
})
const verdicts = { authorised: 'authorised', unauthorised: 'not authorised', open: '' }
</script>

<template>
  <button
    class="flex gap-2.5 flex-1 min-w-0 text-left items-start"
    :aria-expanded="open"
    @click="emit('toggle')"
  >
    <span class="mt-1"><Shape :place="change.place" :judged="change.verdict === 'authorised'" /></span>
    <span class="w-[150px] shrink-0 truncate"
      ><b>{{ change.device }}</b
      ><span class="block text-[11.5px] text-second">{{ change.site }}</span></span
    >
    <span class="w-[190px] shrink-0"
      >{{ happened
      }}<span class="block text-[11.5px] text-second truncate">{{
        change.accounts.length ? `by ${change.accounts.join(', ')}` : 'nobody knows by whom'
      }}</span></span
    >
    <span class="flex-1 min-w-0"
      ><span class="mono whitespace-pre">{{ marks(change.stats) }}</span
      ><span v-if="change.undoes" class="text-second"> · undoes #{{ change.undoes }}</span
      ><span class="block text-[11.5px] text-second truncate">{{ change.sections.join(' · ') }}</span></span
    >
    <span class="flex gap-1.5 flex-wrap justify-end w-[270px] shrink-0">
      <span
        v-if="isOutside(change.place)"
        class="tag"
        :class="
          change.verdict === 'authorised' ? 'border border-line text-second' : 'bg-alarm-tint text-alarm'
        "
        >{{ change.place === 'freeze' ? 'in a freeze' : 'outside agreed hours' }}</span
      >
      <span
        v-if="change.severity === 'high' && change.verdict === 'open'"
        class="tag bg-attention-tint text-attention"
        >severe</span
      >
      <span v-if="change.suspect" class="tag bg-attention-tint text-attention">suspect</span>
      <span v-if="change.verdict === 'open' && change.taker" class="tag border border-line text-second"
        >{{ change.taker }} is on it</span
      >
      <span v-else-if="change.verdict === 'open'" class="tag border border-line">open</span>
      <span
        v-else
        class="tag"
        :class="change.verdict === 'unauthorised' ? 'bg-alarm-tint text-alarm' : 'text-second font-normal'"
        :title="change.reference"
        >{{ verdicts[change.verdict] }}{{ change.reference ? `, ${change.reference}` : '' }}</span
      >
    </span>
  </button>
</template>
