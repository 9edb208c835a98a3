<script setup lang="ts">
// What happened as a strip over time, agreed hours behind it. Dragging narrows the
// page to a span.
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import type { ChangeOverview } from '../../api/call'
import { exact, when } from '../../parts/say'
import Shape from './Shape.vue'
import { dotsOf, shadesOf, ticksOf } from './strip'

const props = defineProps<{ overview: ChangeOverview }>()
const emit = defineEmits<{ narrow: [string, string]; pick: [number] }>()
const box = ref<HTMLElement | null>(null)
const width = ref(1000)
let watcher: ResizeObserver | undefined
onMounted(() => {
  watcher = new ResizeObserver(([e]) => (width.value = e!.contentRect.width || 1000))
  if (box.value) watcher.observe(box.value)
})
onBeforeUnmount(() => watcher?.disconnect())

const from = computed(() => new Date(props.overview.from).getTime())
const to = computed(() => Math.max(new Date(props.overview.to).getTime(), from.value + 60_000))
const shades = computed(() => shadesOf(props.overview.openings, from.value, to.value))
const dots = computed(() => dotsOf(props.overview.marks, from.value, to.value, width.value))
const ticks = computed(() => ticksOf(from.value, to.value))
/** Each window has a lane of its own; of many openings only the shade is drawn. */
const lanes = computed(() => [...new Set(shades.value.map((s) => s.name))].slice(0, 4))

const drag = ref<{ from: number; to: number } | null>(null)
const share = (e: PointerEvent) => {
  const r = box.value!.getBoundingClientRect()
  return Math.min(1, Math.max(0, (e.clientX - r.left) / r.width))
}
function down(e: PointerEvent) {
  if ((e.target as HTMLElement).closest('button')) return
  drag.value = { from: share(e), to: share(e) }
  box.value!.setPointerCapture(e.pointerId)
}
function move(e: PointerEvent) {
  if (drag.value) drag.value.to = share(e)
}
function up() {
  const d = drag.value
  drag.value = null
  if (!d || Math.abs(d.to - d.from) < 0.01) return
  const at = (x: number) =>
    new Date(from.value + x * (to.value - from.value)).toISOString().slice(0, 19) + 'Z'
  emit('narrow', at(Math.min(d.from, d.to)), at(Math.max(d.from, d.to)))
}
const said = (m: { device: string; at: string; place: string }, more: number) =>
  `${m.device}, ${when(m.at)}, ${m.place === 'none' ? 'no hours agreed' : m.place === 'freeze' ? 'in a freeze' : m.place === 'perhaps' ? 'perhaps outside agreed hours' : `${m.place} agreed hours`}${more ? `; and ${more} more here` : ''}`
</script>

<template>
  <div class="select-none">
    <div
      ref="box"
      class="relative cursor-crosshair overflow-hidden"
      :style="{ height: `${62 + lanes.length * 17}px` }"
      @pointerdown="down"
      @pointermove="move"
      @pointerup="up"
      @pointercancel="drag = null"
    >
      <div
        v-for="(s, i) in shades"
        :key="i"
        class="absolute top-0 bottom-0"
        :class="s.freeze ? 'bg-alarm-tint opacity-60' : 'bg-accent-tint opacity-45'"
        :style="{ left: `${s.from}%`, width: `${s.width}%` }"
        :title="s.name"
      ></div>
      <span
        v-for="(name, i) in lanes"
        :key="name"
        class="absolute left-1 text-[11.5px] text-second z-[1]"
        :style="{ top: `${64 + i * 17}px` }"
        ><span class="bg-surface/80 px-1 rounded">{{ name }}</span></span
      >
      <template v-for="(s, i) in shades" :key="`lane${i}`">
        <div
          v-if="lanes.includes(s.name)"
          class="absolute h-[5px] rounded-full"
          :class="s.freeze ? 'bg-alarm' : 'bg-accent'"
          :style="{
            left: `${s.from}%`,
            width: `max(${s.width}%, 2px)`,
            top: `${71 + lanes.indexOf(s.name) * 17}px`,
            opacity: 0.55,
          }"
        ></div>
      </template>
      <button
        v-for="d in dots"
        :key="d.mark.id"
        class="absolute grid place-items-center w-[13px] h-[14px] hover:scale-150 transition-transform z-[2]"
        :style="{ left: `calc(${d.at}% - 6px)`, top: `${40 - d.row * 15}px` }"
        :title="said(d.mark, d.more)"
        :aria-label="said(d.mark, d.more)"
        tabindex="-1"
        @click="emit('pick', d.mark.id)"
      >
        <Shape :place="d.mark.place" :judged="d.mark.verdict === 'authorised'" />
      </button>
      <div class="absolute left-0 right-0 top-[56px] border-t border-line"></div>
      <div
        v-if="drag"
        class="absolute top-0 bottom-0 border-x-2 border-accent bg-accent/15 z-[3]"
        :style="{
          left: `${Math.min(drag.from, drag.to) * 100}%`,
          width: `${Math.abs(drag.to - drag.from) * 100}%`,
        }"
      ></div>
    </div>
    <div class="relative h-[17px] text-[11.5px] text-second border-t border-line">
      <span
        v-for="t in ticks"
        :key="t.at"
        class="absolute top-0.5 whitespace-nowrap"
        :style="{ left: `${Math.min(t.at, 95)}%` }"
        >{{ t.text }}</span
      >
    </div>
    <p class="text-[11.5px] text-second mt-1.5 flex gap-4 items-center flex-wrap">
      <span class="flex gap-1 items-center"><Shape place="outside" /> outside agreed hours</span>
      <span class="flex gap-1 items-center"><Shape place="inside" /> inside</span>
      <span class="flex gap-1 items-center"><Shape place="none" /> unknown, or none agreed</span>
      <span class="flex gap-1 items-center"><Shape place="inside" judged /> authorised</span>
      <span class="ml-auto" :title="`${exact(overview.from)} to ${exact(overview.to)}`"
        >drag to narrow · {{ when(overview.from) }} to {{ when(overview.to) }}</span
      >
    </p>
  </div>
</template>
