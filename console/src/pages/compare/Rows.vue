<script setup lang="ts">
import { computed, ref } from 'vue'
import { useWindowVirtualizer } from '@tanstack/vue-virtual'
import type { Row } from '../../api/call'
import { plural } from '../../parts/say'
import HalfRow from './HalfRow.vue'
import { halves, note, unifiedHalves, type Group } from './rows'

const props = defineProps<{ rows: Row[]; mode: 'side' | 'unified'; current: Group | undefined }>()

interface Line {
  row: number
  heading?: string
}
/** Rows, with a heading where the section changes. */
const lines = computed(() => {
  const out: Line[] = []
  let section: string | undefined
  props.rows.forEach((r, row) => {
    const path = (r.path ?? []).join('  ›  ')
    if (r.kind === 'skipped') section = undefined
    else if (r.kind !== 'equal' && !r.aside && path !== section) {
      section = path
      if (path) out.push({ row, heading: path })
    }
    out.push({ row })
  })
  return out
})
const height = 20
const size = (l: Line) => {
  const r = props.rows[l.row]!
  if (l.heading) return 26
  if (r.kind === 'skipped') return 30
  return props.mode === 'unified' ? unifiedHalves(r).length * height : height
}
const box = ref<HTMLElement | null>(null)
const virtual = useWindowVirtualizer(
  computed(() => ({
    count: lines.value.length,
    estimateSize: (i: number) => size(lines.value[i]!),
    getItemKey: (i: number) => `${props.mode}${props.rows.length}.${i}`,
    overscan: 30,
    scrollMargin: box.value?.offsetTop ?? 0,
  })),
)
const items = computed(() =>
  virtual.value
    .getVirtualItems()
    .map((v) => ({ ...v, l: lines.value[v.index]!, r: props.rows[lines.value[v.index]!.row]! })),
)
const digits = computed(() =>
  Math.max(
    3,
    String(Math.max(0, ...props.rows.slice(-5).map((r) => Math.max(r.left ?? 0, r.right ?? 0)))).length,
  ),
)
const isCurrent = (row: number) => !!props.current && row >= props.current.from && row <= props.current.to

defineExpose({
  show(row: number) {
    const i = lines.value.findIndex((l) => l.row === row)
    if (i >= 0) virtual.value.scrollToIndex(i, { align: 'center' })
  },
})
</script>

<template>
  <div
    ref="box"
    class="relative mono my-2"
    :style="{ height: `${virtual.getTotalSize()}px` }"
    role="region"
    aria-label="Differences"
    tabindex="0"
  >
    <div
      v-for="v in items"
      :key="String(v.key)"
      class="absolute inset-x-0 leading-5"
      :style="{ height: `${v.size}px`, transform: `translateY(${v.start - virtual.options.scrollMargin}px)` }"
    >
      <div v-if="v.l.heading" class="px-3.5 pt-1.5 font-bold truncate" :title="v.l.heading">
        {{ v.l.heading }}
      </div>
      <div
        v-else-if="v.r.kind === 'skipped'"
        class="px-14 pt-1.5 border-y border-dashed border-line text-second h-[28px] font-sans text-[11.5px]"
      >
        … {{ plural(v.r.count ?? 0, 'line') }} without a difference that counts
      </div>
      <div v-else-if="mode === 'side'" class="grid grid-cols-2">
        <HalfRow
          v-for="(h, i) in halves(v.r)"
          :key="i"
          :half="h"
          :digits="digits"
          :current="isCurrent(v.l.row) && i === 0"
          :note="i === (v.r.right ? 1 : 0) ? note(v.r) : ''"
        />
      </div>
      <div v-else>
        <HalfRow
          v-for="(h, i) in unifiedHalves(v.r)"
          :key="i"
          :half="h"
          :digits="digits"
          :current="isCurrent(v.l.row)"
          :note="note(v.r)"
        />
      </div>
    </div>
  </div>
</template>
