<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useWindowVirtualizer } from '@tanstack/vue-virtual'
import type { Row } from '../../api/call'
import { plural } from '../../parts/say'
import HalfRow from './HalfRow.vue'
import { halves, note, unifiedHalves, type Group } from './rows'

const props = defineProps<{ rows: Row[]; mode: 'side' | 'unified'; current: Group | undefined }>()

interface Line {
  row: number
  heading?: string
  numbers?: [number | undefined, number | undefined] // of the heading's own line
  folded?: number // rows of the section that are not shown
}
const closed = ref(new Set<string>())
watch(
  () => props.rows,
  () => (closed.value = new Set()),
)
function toggle(heading: string) {
  const next = new Set(closed.value)
  if (!next.delete(heading)) next.add(heading)
  closed.value = next
}
/** Rows, with a heading where the section changes. */
const lines = computed(() => {
  const out: Line[] = []
  let section: string | undefined
  let head: Line | undefined
  props.rows.forEach((r, row) => {
    const path = (r.path ?? []).join('  ›  ')
    if (r.kind === 'skipped') {
      section = undefined
      head = undefined
    } else if (r.kind !== 'equal' && !r.aside && path !== section) {
      section = path
      head = undefined
      if (path) {
        head = { row, heading: path }
        // Where the heading itself is in view, it is not said twice.
        const text = r.path!.at(-1)!
        const shown = out.findLastIndex((l) => {
          const x = props.rows[l.row]!
          return x.kind === 'equal' && (x.leftText ?? '').trim().startsWith(text)
        })
        const skip = out.findLastIndex((l) => props.rows[l.row]!.kind === 'skipped')
        if (shown > skip && !out.slice(shown).some((l) => l.heading)) {
          head.numbers = [props.rows[out[shown]!.row]!.left, props.rows[out[shown]!.row]!.right]
          head.row = out[shown]!.row
          out[shown] = head
        } else out.push(head)
      }
    }
    if (head && closed.value.has(head.heading!)) head.folded = (head.folded ?? 0) + 1
    else out.push({ row })
  })
  return out
})
const headings = computed(
  () =>
    new Set(
      props.rows.filter((r) => r.path && !r.aside && r.kind !== 'equal').map((r) => r.path!.join('  ›  ')),
    ),
)
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
  folded: computed(() => closed.value.size > 0),
  foldAll: () => (closed.value = closed.value.size ? new Set() : new Set(headings.value)),
  show(row: number) {
    const heading = (props.rows[row]?.path ?? []).join('  ›  ')
    if (closed.value.has(heading)) toggle(heading)
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
      <button
        v-if="v.l.heading"
        class="block w-full text-left px-3.5 pt-1.5 font-bold truncate hover:text-accent"
        :title="v.l.heading"
        :aria-expanded="!closed.has(v.l.heading)"
        @click="toggle(v.l.heading)"
      >
        <span class="text-faint font-normal" aria-hidden="true">{{
          closed.has(v.l.heading) ? '▸' : '▾'
        }}</span>
        {{ v.l.heading
        }}<span v-if="v.l.numbers" class="text-faint font-normal">
          · line {{ v.l.numbers[0]
          }}{{ v.l.numbers[1] !== v.l.numbers[0] ? `, ${v.l.numbers[1]}` : '' }}</span
        ><span v-if="v.l.folded" class="text-faint font-normal font-sans">
          · {{ plural(v.l.folded, 'line') }}</span
        >
      </button>
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
