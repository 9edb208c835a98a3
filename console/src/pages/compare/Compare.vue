<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useComparison } from '../../api/queries'
import { onKeys } from '../../parts/keys'
import { marks, plural, total } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import RefBox from './RefBox.vue'
import Rows from './Rows.vue'
import { firstRowOf, groupsOf } from './rows'

const route = useRoute()
const router = useRouter()
const asText = (v: unknown) => (typeof v === 'string' ? v : '')
const left = computed(() => asText(route.query['left']))
const right = computed(() => asText(route.query['right']))
const mode = computed(() => (asText(route.query['as']) === 'unified' ? 'unified' : 'side'))
const whole = computed(() => route.query['whole'] === '1')
const context = computed(() => (whole.value ? -1 : 3))

const comparison = useComparison(left, right, context)
const data = computed(() => comparison.data.value)
const groups = computed(() => groupsOf(data.value?.rows ?? []))
const at = ref(0)
watch(data, () => (at.value = 0))
const table = ref<InstanceType<typeof Rows> | null>(null)

function go(query: Record<string, string>) {
  const next = { ...route.query, ...query }
  for (const k of Object.keys(next)) if (!next[k]) delete next[k]
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
const aside = computed(() => (data.value ? data.value.stats.volatile + data.value.stats.undecidable : 0))
const answer = computed(() => {
  if (!data.value) return ''
  const { stats } = data.value
  const said = [`${plural(total(stats), 'difference')} in ${plural(sections.value.length, 'section')}.`]
  if (stats.moved) said.push(`${plural(stats.moved, 'line')} moved.`)
  if (aside.value) said.push(`${plural(aside.value, 'line')} set aside.`)
  return said.join(' ')
})
function toSection(path: string[]) {
  const row = firstRowOf(data.value?.rows ?? [], path)
  const group = groups.value.findIndex((g) => row >= g.from && row <= g.to)
  if (group >= 0) at.value = group
  table.value?.show(row)
}
function save() {
  if (!data.value) return
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([data.value.unified], { type: 'text/x-diff' }))
  a.download = `${data.value.left.device}-${data.value.right.device}.diff`
  a.click()
  URL.revokeObjectURL(a.href)
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
      >Nothing that counts differs; {{ plural(aside, 'line') }} set aside.</template
    >
    <template v-else>{{ answer }}</template>
  </h1>
  <Trouble :error="comparison.error.value" />
  <div v-if="!left || !right" class="card p-5 text-second">
    For example <code class="mono text-ink">np-acc-2@-1</code> against
    <code class="mono text-ink">np-acc-2</code>, <code class="mono text-ink">dd-acc-1:startup</code> against
    <code class="mono text-ink">dd-acc-1</code>, or a device as it was:
    <code class="mono text-ink">hh-core-1@9d</code>.
  </div>

  <div v-if="data && !data.identical && !comparison.error.value" class="flex gap-3.5 items-start">
    <aside class="card w-[196px] shrink-0 p-3.5 sticky top-3.5">
      <h2 class="font-semibold mb-1.5">Sections</h2>
      <button
        v-for="s in sections"
        :key="s.path.join(' > ')"
        class="w-full text-left rounded-[5px] px-1.5 py-1 flex justify-between gap-2 hover:bg-ground"
        @click="toSection(s.path)"
      >
        <span class="truncate" :title="s.path.join(' > ')">{{ s.path.at(-1) ?? '(top)' }}</span>
        <span class="mono text-second whitespace-nowrap">{{ marks(s.stats) }}</span>
      </button>
      <template v-if="aside">
        <h3 class="text-second text-[11.5px] mt-3 mb-0.5 px-1.5">set aside</h3>
        <p v-if="data.stats.volatile" class="px-1.5 flex justify-between">
          <span>changes by itself</span><span class="mono text-second">{{ data.stats.volatile }}</span>
        </p>
        <p v-if="data.stats.undecidable" class="px-1.5 flex justify-between">
          <span title="Secrets that the device writes anew at each show">not decidable</span
          ><span class="mono text-second">{{ data.stats.undecidable }}</span>
        </p>
      </template>
      <p v-if="data.left.masked || data.right.masked" class="px-1.5 mt-3 text-[11.5px] text-second">
        Secrets are hidden.
      </p>
    </aside>
    <section class="card flex-1 min-w-0 overflow-hidden">
      <div class="flex items-center gap-2 px-3.5 py-2 border-b border-line">
        <button
          v-for="m in [
            ['side', 'Side by side'],
            ['unified', 'Unified'],
          ]"
          :key="m[0]"
          class="tag py-px"
          :class="
            mode === m[0] ? 'bg-accent-tint text-accent' : 'border border-line text-second hover:text-ink'
          "
          :aria-pressed="mode === m[0]"
          @click="go({ as: m[0] === 'side' ? '' : 'unified' })"
        >
          {{ m[1] }}
        </button>
        <span class="ml-auto text-second">{{ groups.length ? at + 1 : 0 }} of {{ groups.length }}</span>
        <button class="key" title="Next difference" @click="step(1)">n</button>
        <button class="key" title="Previous difference" @click="step(-1)">p</button>
        <button class="control" @click="go({ whole: whole ? '' : '1' })">
          {{ whole ? 'Only differences' : 'Whole' }}
        </button>
        <button class="control" title="In the unified format" @click="save">Save</button>
      </div>
      <Rows ref="table" :rows="data.rows" :mode="mode" :current="groups[at]" />
    </section>
  </div>
</template>
