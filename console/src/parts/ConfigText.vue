<script setup lang="ts">
// A configuration with its sections to fold. Only what is in view is drawn.
import { computed, ref, watch } from 'vue'
import { useWindowVirtualizer } from '@tanstack/vue-virtual'
import type { Configuration } from '../api/call'
import { folded, visibleLines } from './folding'

const props = defineProps<{ configuration: Configuration }>()
const lines = computed(() => props.configuration.text.replace(/\n$/, '').split('\n'))
const closed = ref(new Set<number>())
watch(
  () => props.configuration.revision.ref,
  () => (closed.value = new Set()),
)
const sections = computed(() => new Map(props.configuration.sections.map((s) => [s.line, s])))
const visible = computed(() => visibleLines(lines.value.length, props.configuration.sections, closed.value))

const box = ref<HTMLElement | null>(null)
const height = 20
const virtual = useWindowVirtualizer(
  computed(() => ({
    count: visible.value.length,
    estimateSize: () => height,
    overscan: 30,
    scrollMargin: box.value?.offsetTop ?? 0,
  })),
)
const items = computed(() =>
  virtual.value.getVirtualItems().map((v) => ({ ...v, line: visible.value[v.index]! })),
)
function toggle(line: number) {
  const next = new Set(closed.value)
  if (!next.delete(line)) next.add(line)
  closed.value = next
}
const allFolded = computed(() => closed.value.size > 0)
defineExpose({
  toggleAll: () => (closed.value = allFolded.value ? new Set() : folded(props.configuration.sections)),
  allFolded,
})
const digits = computed(() => String(lines.value.length).length)
</script>

<template>
  <div
    ref="box"
    class="relative mono overflow-x-auto"
    :style="{ height: `${virtual.getTotalSize()}px` }"
    tabindex="0"
    role="region"
    aria-label="Configuration"
  >
    <div
      v-for="v in items"
      :key="v.index"
      class="absolute left-0 min-w-full flex whitespace-pre leading-5 hover:bg-ground"
      :style="{ height: `${height}px`, transform: `translateY(${v.start - virtual.options.scrollMargin}px)` }"
    >
      <button
        v-if="sections.has(v.line)"
        class="w-5 text-faint hover:text-ink shrink-0"
        :aria-expanded="!closed.has(v.line)"
        :aria-label="`Section ${sections.get(v.line)!.heading}`"
        @click="toggle(v.line)"
      >
        {{ closed.has(v.line) ? '▸' : '▾' }}
      </button>
      <span v-else class="w-5 shrink-0"></span>
      <span
        class="text-faint text-right pr-4 select-none shrink-0"
        :style="{ width: `calc(${digits}ch + 1rem)` }"
        >{{ v.line }}</span><span :class="sections.has(v.line) && 'font-bold'">{{ lines[v.line - 1] }}</span
      ><span v-if="closed.has(v.line)" class="text-faint pl-3"
        >… {{ sections.get(v.line)!.lastLine - v.line }} lines</span
      >
    </div>
  </div>
</template>
