<script setup lang="ts">
import type { Revision } from '../../api/call'
import { marks, remark } from '../../parts/say'
import Moment from '../../parts/Moment.vue'

defineProps<{ revisions: Revision[]; selected: number }>()
const emit = defineEmits<{ pick: [number]; compare: [number] }>()
</script>

<template>
  <section class="card mt-3.5 px-3.5 py-1">
    <table class="w-full">
      <caption class="text-left font-semibold py-2">
        Revisions
      </caption>
      <thead>
        <tr class="text-left text-second text-[11.5px] border-b border-line">
          <th class="py-1.5 w-[90px]">Revision</th>
          <th class="w-[160px]">In force since</th>
          <th class="w-[160px]">Last seen</th>
          <th class="w-[80px]">Lines</th>
          <th class="w-[120px]">Differs</th>
          <th>Remark</th>
          <th><span class="sr-only">Compare</span></th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="r in revisions"
          :key="r.number"
          class="border-b border-line last:border-0 h-[33px]"
          :class="r.number === selected && 'bg-accent-tint'"
        >
          <td>
            <button class="font-semibold hover:underline" @click="emit('pick', r.number)">
              @{{ r.number }}
            </button>
          </td>
          <td><Moment :at="r.firstSeen" /></td>
          <td><Moment :at="r.lastSeen" /></td>
          <td>{{ r.lines.toLocaleString() }}</td>
          <td class="mono">{{ marks(r.stats) }}</td>
          <td :class="r.suspect && 'text-attention'">{{ remark(r) }}</td>
          <td class="text-right">
            <button v-if="r.number !== selected" class="control" @click="emit('compare', r.number)">
              Compare with @{{ selected }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
