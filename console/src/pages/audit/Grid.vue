<script setup lang="ts">
// Policies, standards and baselines against sites: how much holds, in numbers.
import { computed } from 'vue'
import type { Score } from '../../api/call'
import { plural } from '../../parts/say'
import { called, gridOf, percent } from './grid'

const props = defineProps<{ scores: Score[]; document: string; site: string }>()
const emit = defineEmits<{ pick: [document: string, site: string] }>()
const grid = computed(() => gridOf(props.scores))
// Drift asks for a look, and is no alarm.
const level = (share: number, document: string) =>
  share === 1 ? '' : share >= 0.9 ? 'few' : share >= 0.7 || document.startsWith('baseline:') ? 'some' : 'many'
</script>

<template>
  <div
    class="card px-3.5 py-2 mb-3.5 overflow-x-auto"
    tabindex="0"
    role="region"
    aria-label="What holds where"
  >
    <table class="w-full">
      <thead>
        <tr class="text-left text-second text-[11.5px] border-b border-line">
          <th class="py-2 pr-3 w-[170px]">Site</th>
          <th v-for="c in grid.columns" :key="c" class="py-2 pr-2">
            <button class="hover:underline" @click="emit('pick', c, '')">{{ called(c) }}</button>
          </th>
          <th class="py-2 text-right w-[60px]">All</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in grid.rows" :key="r.site" class="border-b border-line last:border-0 h-[33px]">
          <th scope="row" class="text-left font-normal pr-3">
            <button class="hover:underline" @click="emit('pick', '', r.site)">
              {{ r.site || '(no site)' }}
            </button>
          </th>
          <td v-for="(c, i) in r.cells" :key="i" class="pr-2">
            <span v-if="!c || !c.asked" class="text-faint" title="Nothing of it is for these devices">–</span>
            <button
              v-else
              class="flex items-baseline gap-2 w-full text-left hover:underline tabular-nums rounded-[5px] px-1.5 py-0.5"
              :class="[
                level(c.share, grid.columns[i]!) === 'many' && 'bg-alarm-tint text-alarm font-semibold',
                level(c.share, grid.columns[i]!) === 'some' &&
                  'bg-attention-tint text-attention font-semibold',
                level(c.share, grid.columns[i]!) === '' && 'text-second',
                grid.columns[i] === document && r.site === site && 'outline outline-2 outline-accent',
              ]"
              :title="`${c.held} of ${c.asked} hold`"
              @click="emit('pick', grid.columns[i]!, r.site)"
            >
              <span class="w-[46px]">{{ percent(c.share) }}</span>
              <span v-if="c.held < c.asked" class="text-[11.5px] font-normal"
                >{{ c.asked - c.held }} not</span
              >
            </button>
          </td>
          <td class="text-right tabular-nums">{{ percent(r.share) }}</td>
        </tr>
        <tr v-if="grid.fine.length" class="h-[33px] text-second">
          <td :colspan="grid.columns.length + 2">
            Everything holds at {{ plural(grid.fine.length, 'site') }}: {{ grid.fine.slice(0, 6).join(', ')
            }}<template v-if="grid.fine.length > 6"> and others</template>.
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
