<script setup lang="ts">
// What differs as a table: section, parameter, left, right.
import { computed } from 'vue'
import type { Row } from '../../api/call'
import HeadRow from '../../parts/HeadRow.vue'
import { cellsOf } from './rows'

const props = defineProps<{
  rows: Row[]
  left: string
  right: string
  current: { from: number; to: number } | undefined
}>()
const shown = 500
const cells = computed(() => cellsOf(props.rows))
const isCurrent = (row: number) => !!props.current && row >= props.current.from && row <= props.current.to
defineExpose({
  show(row: number) {
    document.querySelector(`[data-row="${row}"]`)?.scrollIntoView({ block: 'center' })
  },
})
</script>

<template>
  <div class="px-3.5 overflow-x-auto">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Section', width: '28%' },
          { title: 'Parameter', width: '24%' },
          { title: left },
          { title: right },
        ]"
      />
      <tbody class="mono">
        <tr
          v-for="c in cells.slice(0, shown)"
          :key="c.row"
          :data-row="c.row"
          class="border-b border-line last:border-0 h-[33px] align-top"
          :class="isCurrent(c.row) && 'bg-accent-tint'"
        >
          <td class="pr-3 py-1.5 text-second">{{ c.section }}</td>
          <td class="pr-3 py-1.5">{{ c.parameter }}</td>
          <td class="pr-3 py-1.5" :class="c.left ? 'text-removed' : 'text-faint'">{{ c.left || '–' }}</td>
          <td class="py-1.5" :class="c.right ? 'text-added' : 'text-faint'">{{ c.right || '–' }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="cells.length > shown" class="py-2 text-second">
      {{ (cells.length - shown).toLocaleString() }} more are in the table that "Export" saves.
    </p>
  </div>
</template>
