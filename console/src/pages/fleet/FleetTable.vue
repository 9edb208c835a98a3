<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useWindowVirtualizer } from '@tanstack/vue-virtual'
import type { Device } from '../../api/call'
import { onKeys } from '../../parts/keys'
import { plural } from '../../parts/say'
import Moment from '../../parts/Moment.vue'
import { columns, lines, wrong, type Field } from './fields'

const props = defineProps<{ devices: Device[]; group: Field | ''; sort: string }>()
const emit = defineEmits<{ sort: [string] }>()
const router = useRouter()

const rows = computed(() => lines(props.devices, props.group, props.sort))
const box = ref<HTMLElement | null>(null)
const rowHeight = 33
const virtual = useWindowVirtualizer(
  computed(() => ({
    count: rows.value.length,
    estimateSize: () => rowHeight,
    overscan: 12,
    scrollMargin: box.value?.offsetTop ?? 0,
  })),
)
const items = computed(() =>
  virtual.value.getVirtualItems().map((v) => ({ ...v, row: rows.value[v.index]! })),
)
const grid = columns.map((c) => c.width).join(' ')
const active = ref(-1)

function move(step: number) {
  let i = active.value
  do i += step
  while (rows.value[i] && 'heading' in rows.value[i]!)
  if (!rows.value[i]) return
  active.value = i
  virtual.value.scrollToIndex(i, { align: 'auto' })
}
function open(d: Device) {
  void router.push({ name: 'device', query: { name: d.name } })
}
onKeys({
  j: () => move(1),
  k: () => move(-1),
  Enter: () => {
    const row = rows.value[active.value]
    if (row && 'device' in row) open(row.device)
  },
})

const sorted = (f: Field) => (props.sort === f ? 'ascending' : props.sort === `-${f}` ? 'descending' : 'none')
function by(f: Field) {
  emit('sort', props.sort === f ? `-${f}` : f)
}
const tone: Record<Device['freshness'], string> = {
  fresh: 'text-second',
  late: 'tag bg-attention-tint text-attention',
  stale: 'tag bg-alarm-tint text-alarm',
  'no capture yet': 'tag bg-attention-tint text-attention',
}
</script>

<template>
  <div class="card" role="table" aria-label="Devices" :aria-rowcount="rows.length + 1">
    <div
      role="row"
      class="grid gap-x-3 px-3.5 sticky top-0 bg-surface border-b border-line z-[1] rounded-t-[10px]"
      :style="{ gridTemplateColumns: grid }"
    >
      <div v-for="c in columns" :key="c.field" role="columnheader" :aria-sort="sorted(c.field)">
        <button
          class="py-2 text-left text-second text-[11.5px] font-semibold whitespace-nowrap hover:text-ink"
          @click="by(c.field)"
        >
          {{ c.title }}
          <span aria-hidden="true">{{
            sorted(c.field) === 'ascending' ? '↓' : sorted(c.field) === 'descending' ? '↑' : ''
          }}</span>
        </button>
      </div>
    </div>
    <div ref="box" role="rowgroup" class="relative" :style="{ height: `${virtual.getTotalSize()}px` }">
      <div
        v-for="v in items"
        :key="v.index"
        role="row"
        :aria-rowindex="v.index + 2"
        class="absolute inset-x-0 grid gap-x-3 px-3.5 items-center border-b border-line last:border-0"
        :class="'device' in v.row ? [active === v.index ? 'bg-accent-tint' : 'hover:bg-ground'] : 'bg-ground'"
        :style="{
          height: `${rowHeight}px`,
          gridTemplateColumns: grid,
          transform: `translateY(${v.start - virtual.options.scrollMargin}px)`,
        }"
      >
        <template v-if="'device' in v.row">
          <div role="cell" class="truncate font-semibold">
            <RouterLink
              :to="{ name: 'device', query: { name: v.row.device.name } }"
              class="hover:underline"
              >{{ v.row.device.name }}</RouterLink
            >
          </div>
          <div role="cell" class="truncate">{{ v.row.device.site }}</div>
          <div role="cell" class="truncate">{{ v.row.device.role }}</div>
          <div role="cell" class="truncate">{{ v.row.device.platform }}</div>
          <div role="cell">
            <span :class="tone[v.row.device.freshness]">{{ v.row.device.freshness }}</span>
          </div>
          <div role="cell" class="truncate"><Moment :at="v.row.device.lastChange" /></div>
          <div
            role="cell"
            class="truncate"
            :class="
              v.row.device.problem ? 'text-alarm' : v.row.device.suspect ? 'text-attention' : 'text-second'
            "
            :title="v.row.device.problem ? `${wrong(v.row.device)} ${v.row.device.problem.advice}` : ''"
          >
            {{ wrong(v.row.device) }}
          </div>
        </template>
        <div v-else role="cell" class="col-span-full text-second">
          <b class="text-ink">{{ v.row.heading }}</b> · {{ plural(v.row.count, 'device')
          }}<span v-if="v.row.wrong" class="text-alarm"> · {{ v.row.wrong }} failed</span>
        </div>
      </div>
    </div>
  </div>
</template>
