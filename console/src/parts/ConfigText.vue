<script setup lang="ts">
// A configuration with its sections to fold. Only what is in view is drawn.
import { computed, nextTick, ref, watch } from 'vue'
import { useWindowVirtualizer } from '@tanstack/vue-virtual'
import type { Configuration } from '../api/call'
import { hexLines } from './bytes'
import { folded, visibleLines } from './folding'
import type { LineFinding } from './findings'
import type { Beside } from './lives'

const props = defineProps<{
  configuration: Configuration
  beside?: Beside[] | undefined
  line?: number
  findings?: Map<number, LineFinding> // by line
}>()
const lines = computed(() => props.configuration.text.replace(/\n$/, '').split('\n'))
const closed = ref(new Set<number>())
watch(
  () => props.configuration.revision.ref,
  () => (closed.value = new Set()),
)
const hex = computed(() => (props.configuration.raw ? hexLines(props.configuration.raw) : new Map()))
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
// A line that the address names is shown in the middle.
watch(
  () => [props.line, props.configuration.revision.ref],
  async () => {
    if (!props.line || props.line > lines.value.length) return
    await nextTick()
    virtual.value.scrollToIndex(visible.value.indexOf(props.line), { align: 'center' })
  },
  { immediate: true },
)
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
      :class="v.line === line && 'bg-attention-tint'"
      :style="{ height: `${height}px`, transform: `translateY(${v.start - virtual.options.scrollMargin}px)` }"
    >
      <span
        v-if="beside"
        class="w-[148px] shrink-0 text-right pr-2.5 mr-1 border-r-[3px] font-sans text-[11.5px] text-second overflow-hidden"
        :class="beside[v.line - 1]?.edge ?? 'border-line'"
        :title="beside[v.line - 1]?.title"
        >{{ beside[v.line - 1]?.text }}</span
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
        >{{ v.line }}</span><span
        v-if="hex.has(v.line)"
        class="text-attention"
        title="These bytes are no text; they are shown as hexadecimal numbers"
        >{{ hex.get(v.line) }}</span
      ><span v-else :class="sections.has(v.line) && 'font-bold'">{{ lines[v.line - 1] }}</span
      ><span v-if="closed.has(v.line)" class="text-faint pl-3"
        >… {{ sections.get(v.line)!.lastLine - v.line }} lines</span
      >
      <RouterLink
        v-if="findings?.has(v.line)"
        class="ml-4 tag font-sans no-underline hover:underline self-center"
        :class="
          findings.get(v.line)!.severity === 'high'
            ? 'bg-alarm-tint text-alarm'
            : 'bg-attention-tint text-attention'
        "
        :title="findings.get(v.line)!.title"
        :to="{
          name: 'audit',
          query: { document: findings.get(v.line)!.document, rule: findings.get(v.line)!.rule },
        }"
        >{{ findings.get(v.line)!.text }}</RouterLink
      >
    </div>
  </div>
</template>
