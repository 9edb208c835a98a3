<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { ComparisonQuery } from '../../api/call'
import { useComparison } from '../../api/queries'
import { onKeys } from '../../parts/keys'
import { plural, total } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import Toggle from '../../parts/Toggle.vue'
import CellTable from './CellTable.vue'
import Expected from './Expected.vue'
import Export from './Export.vue'
import RefBox from './RefBox.vue'
import Rows from './Rows.vue'
import Sections from './Sections.vue'
import { firstRowOf, groupsOf } from './rows'

const route = useRoute()
const router = useRouter()
const asText = (v: unknown) => (typeof v === 'string' ? v : '')
const left = computed(() => asText(route.query['left']))
const right = computed(() => asText(route.query['right']))
const modes = { side: 'Side by side', unified: 'Unified', table: 'Table' }
type Mode = keyof typeof modes
const mode = computed<Mode>(() =>
  asText(route.query['as']) in modes ? (asText(route.query['as']) as Mode) : 'side',
)
const whole = computed(() => route.query['whole'] === '1')
const strict = computed(() => route.query['strict'] === '1')
const expected = computed(() => [route.query['expected'] ?? []].flat().map(String))
const query = computed<ComparisonQuery>(() => ({
  left: left.value,
  right: right.value,
  context: whole.value ? -1 : 3,
  ...(expected.value.length ? { expected: expected.value } : {}),
  ...(strict.value ? { strict: true } : {}),
}))

const comparison = useComparison(query)
const data = computed(() => comparison.data.value)
const groups = computed(() => groupsOf(data.value?.rows ?? []))
const at = ref(0)
watch(data, () => (at.value = 0))
const table = ref<{ show(row: number): void; foldAll?(): void; folded?: boolean } | null>(null)

function go(query: Record<string, string | string[]>) {
  const next = { ...route.query, ...query }
  for (const k of Object.keys(next)) if (!next[k]?.length) delete next[k]
  void router.replace({ query: next })
}
async function step(by: number) {
  if (!groups.value.length) return
  at.value = (at.value + by + groups.value.length) % groups.value.length
  await nextTick()
  table.value?.show(groups.value[at.value]!.from)
}
onKeys({ n: () => step(1), p: () => step(-1) })

const sections = computed(() => (data.value?.sections ?? []).filter((s) => total(s.stats) > 0))
const asides = computed(() => {
  const s = data.value?.stats
  return s ? s.volatile + s.undecidable + (s.order ?? 0) + (s.layout ?? 0) + (s.expected ?? 0) : 0
})
const twoDevices = computed(
  () => !!data.value && !!data.value.right.device && data.value.left.device !== data.value.right.device,
)
const answer = computed(() => {
  if (!data.value) return ''
  const { stats } = data.value
  const said = [`${plural(total(stats), 'difference')} in ${plural(sections.value.length, 'section')}.`]
  if (stats.moved) said.push(`${plural(stats.moved, 'line')} moved where order decides.`)
  if (asides.value) said.push(`${plural(asides.value, 'line')} set aside.`)
  return said.join(' ')
})
function toSection(path: string[]) {
  const row = firstRowOf(data.value?.rows ?? [], path)
  const group = groups.value.findIndex((g) => row >= g.from && row <= g.to)
  if (group >= 0) at.value = group
  table.value?.show(row)
}
</script>

<template>
  <form class="flex gap-2.5 items-center mb-3" @submit.prevent>
    <RefBox
      label="Left"
      :value="left"
      :said="data?.left.revision?.firstSeen"
      search
      @pick="(v) => go({ left: v })"
    />
    <span class="text-second">against</span>
    <RefBox
      label="Right"
      :value="right"
      :said="data?.right.revision?.firstSeen"
      @pick="(v) => go({ right: v })"
    />
    <button type="button" class="control py-1.5" @click="go({ left: right, right: left })">Swap</button>
  </form>

  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="!left || !right">Name two configurations to compare.</template>
    <template v-else-if="comparison.error.value">They cannot be compared.</template>
    <template v-else-if="!data">Comparing …</template>
    <template v-else-if="data.identical">They are identical, byte for byte.</template>
    <template v-else-if="!total(data.stats)"
      >Nothing that counts differs; {{ plural(asides, 'line') }} set aside.</template
    >
    <template v-else>{{ answer }}</template>
  </h1>
  <Trouble :error="comparison.error.value" />
  <div v-if="!left || !right" class="card p-5 text-second">
    For example <code class="mono text-ink">np-acc-2@-1</code> against
    <code class="mono text-ink">np-acc-2</code>, <code class="mono text-ink">dd-acc-1:startup</code> against
    <code class="mono text-ink">dd-acc-1</code>, a device as it was,
    <code class="mono text-ink">hh-core-1@9d</code>, or two that should be alike:
    <code class="mono text-ink">t07-rt-1</code> against <code class="mono text-ink">t06-rt-1</code>.
  </div>

  <div v-if="data?.identical" class="card p-5 flex gap-2 items-center">
    <p class="flex-1 text-second">
      Both have the SHA-256 <span class="mono text-ink break-all">{{ data.left.revision?.hash }}</span>
    </p>
    <Export :query="query" />
  </div>
  <div v-else-if="data && !comparison.error.value" class="flex gap-3.5 items-start">
    <aside class="card w-[236px] shrink-0 p-3.5 sticky top-3.5">
      <Sections
        :sections="sections"
        :stats="data.stats"
        :masked="data.left.masked || data.right.masked"
        @pick="toSection"
      />
      <Expected
        :patterns="expected"
        :two-devices="twoDevices"
        :strict="strict"
        @patterns="(p) => go({ expected: p })"
        @strict="(s) => go({ strict: s ? '1' : '' })"
      />
    </aside>
    <section class="card flex-1 min-w-0">
      <div class="flex items-center gap-2 px-3.5 py-2 border-b border-line">
        <Toggle
          v-for="(text, m) in modes"
          :key="m"
          :on="mode === m"
          @click="go({ as: m === 'side' ? '' : m })"
        >
          {{ text }}
        </Toggle>
        <span class="ml-auto text-second">{{ groups.length ? at + 1 : 0 }} of {{ groups.length }}</span>
        <button class="key" title="Next difference" @click="step(1)">n</button>
        <button class="key" title="Previous difference" @click="step(-1)">p</button>
        <button v-if="mode !== 'table'" class="control" @click="table?.foldAll?.()">
          {{ table?.folded ? 'Unfold all' : 'Fold all' }}
        </button>
        <button v-if="mode !== 'table'" class="control" @click="go({ whole: whole ? '' : '1' })">
          {{ whole ? 'Only differences' : 'Whole' }}
        </button>
        <Export :query="query" />
      </div>
      <CellTable
        v-if="mode === 'table'"
        ref="table"
        :rows="data.rows"
        :left="data.left.name"
        :right="data.right.name"
        :current="groups[at]"
      />
      <Rows v-else ref="table" :rows="data.rows" :mode="mode" :current="groups[at]" />
    </section>
  </div>
</template>
