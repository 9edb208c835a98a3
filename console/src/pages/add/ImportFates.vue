<script setup lang="ts">
// What becomes of each line of a list.
import { ref } from 'vue'
import type { ImportReport } from '../../api/call'
import HeadRow from '../../parts/HeadRow.vue'

defineProps<{ report: ImportReport; of?: string }>()
const most = ref(500)
const fates: Record<string, string> = {
  add: 'text-accent',
  change: 'text-ink',
  unchanged: 'text-second',
  refuse: 'text-alarm font-semibold',
  pause: 'text-attention',
}
</script>

<template>
  <p class="mt-2" role="status">
    <template v-if="of">{{ of }}: </template>{{ report.added }}
    {{ report.applied ? 'added' : 'would be added' }}, {{ report.changed }} changed,
    {{ report.unchanged }} unchanged,
    <template v-if="report.paused">{{ report.paused }} paused, </template>
    <span :class="report.refused ? 'text-alarm font-semibold' : ''">{{ report.refused }} refused</span>.
  </p>
  <table class="w-full">
    <HeadRow
      :columns="[
        { title: 'Line', width: '60px' },
        { title: 'Name', width: '200px' },
        { title: 'Fate', width: '100px' },
        { title: 'What' },
      ]"
    />
    <tbody>
      <tr
        v-for="l in report.lines.slice(0, most)"
        :key="l.line + l.name"
        class="border-b border-line last:border-0 h-[30px]"
      >
        <td>{{ l.line || '' }}</td>
        <td>{{ l.name }}</td>
        <td :class="fates[l.fate]">{{ l.fate }}</td>
        <td>{{ l.what }}</td>
      </tr>
    </tbody>
  </table>
  <button v-if="report.lines.length > most" class="control mt-1" @click="most *= 10">
    Show more of {{ report.lines.length.toLocaleString() }}
  </button>
</template>
