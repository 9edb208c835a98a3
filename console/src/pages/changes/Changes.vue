<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Change, ChangeQuery, Session } from '../../api/call'
import { useChange, useChangeOverview, useChanges } from '../../api/happenings'
import { onKeys } from '../../parts/keys'
import { plural, quoted } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import Toggle from '../../parts/Toggle.vue'
import ChangeLine from './ChangeLine.vue'
import OneChange from './OneChange.vue'
import Patterns from './Patterns.vue'
import Spans from './Spans.vue'
import Strip from './Strip.vue'
import Together from './Together.vue'
import { spans } from './spans'

defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const text = (k: string) => (typeof route.query[k] === 'string' ? String(route.query[k]) : '')
const from = computed(() => text('from') || '7d')
const groupBy = computed(() => text('group') || 'time')
const query = computed<ChangeQuery>(() => {
  const q: ChangeQuery = { from: from.value }
  if (text('to')) q.to = text('to')
  if (text('selector')) q.selector = text('selector')
  if (text('account')) q.account = text('account')
  if (text('section')) q.section = text('section')
  if (text('severity')) q.severity = text('severity') as 'medium'
  if (text('place')) q.place = text('place').split(' ') as 'outside'[]
  if (text('verdict')) q.verdict = text('verdict').split(' ') as 'open'[]
  return q
})
const overview = useChangeOverview(query)
const changes = useChanges(query)
const o = computed(() => overview.data.value)
const list = computed(() => changes.data.value?.items ?? [])

// A change that a mail links to is shown whatever the filters say.
const linked = computed(() => Number(text('change')) || 0)
const one = useChange(linked)
const linkedApart = computed(() =>
  one.data.value && !list.value.some((c) => c.id === linked.value) ? one.data.value : undefined,
)

function go(change: Record<string, string>) {
  const next: Record<string, string> = {}
  for (const [k, v] of Object.entries({ ...route.query, ...change }))
    if (v && typeof v === 'string') next[k] = v
  void router.replace({ query: next })
}

interface Group {
  title: string
  items: Change[]
}
const groups = computed<Group[]>(() => {
  if (groupBy.value === 'patterns') return []
  const by = new Map<string, Change[]>()
  for (const c of list.value) {
    const key =
      groupBy.value === 'device'
        ? c.device
        : groupBy.value === 'site'
          ? c.site || 'no site'
          : groupBy.value === 'account'
            ? c.accounts.join(', ') || 'nobody knows by whom'
            : ''
    by.set(key, [...(by.get(key) ?? []), c])
  }
  const out = [...by].map(([title, items]) => ({ title, items }))
  if (groupBy.value !== 'time')
    out.sort((a, b) => b.items.length - a.items.length || a.title.localeCompare(b.title))
  return out
})

const at = ref(-1)
const flat = computed(() => groups.value.flatMap((g) => g.items))
const opened = ref(new Set<number>())
function toggle(id: number) {
  const next = new Set(opened.value)
  if (!next.delete(id)) next.add(id)
  opened.value = next
  at.value = flat.value.findIndex((c) => c.id === id)
}
watch(linked, (id) => id && opened.value.add(id), { immediate: true })
function step(by: number) {
  if (!flat.value.length) return
  at.value = Math.min(flat.value.length - 1, Math.max(0, at.value + by))
  void nextTick(() =>
    document
      .querySelector(`[data-change="${flat.value[at.value]!.id}"]`)
      ?.scrollIntoView({ block: 'nearest' }),
  )
}
function pick(id: number) {
  if (!opened.value.has(id)) toggle(id)
  void nextTick(() => document.querySelector(`[data-change="${id}"]`)?.scrollIntoView({ block: 'start' }))
}
onKeys({
  j: () => step(1),
  k: () => step(-1),
  Enter: () => flat.value[at.value] && toggle(flat.value[at.value]!.id),
})

// Several at once.
const chosen = ref(new Set<number>())
function choose(id: number) {
  const next = new Set(chosen.value)
  if (!next.delete(id)) next.add(id)
  chosen.value = next
}
const selector = computed(() =>
  [...new Set(list.value.map((c) => c.device))].map((d) => `name=${quoted(d)}`).join(' '),
)
</script>

<template>
  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="overview.isPending.value">Looking …</template>
    <template v-else-if="overview.error.value">What changed cannot be told.</template>
    <template v-else-if="o && !o.changes"
      >Nothing changed
      {{
        spans[from] && from.startsWith('last') ? spans[from] : `in ${spans[from] ?? 'this span'}`
      }}.</template
    >
    <template v-else-if="o">
      {{ plural(o.changes, 'change') }} on {{ plural(o.devices, 'device')
      }}<template v-if="o.outside"
        >,
        <RouterLink :to="{ query: { ...route.query, place: 'outside freeze' } }">{{ o.outside }}</RouterLink>
        outside agreed hours</template
      ><template v-if="o.open"
        >; <RouterLink :to="{ query: { ...route.query, verdict: 'open' } }">{{ o.open }}</RouterLink>
        {{ o.open === 1 ? 'waits' : 'wait' }} for a verdict</template
      >.
    </template>
  </h1>
  <Trouble :error="overview.error.value ?? changes.error.value" :retry="() => overview.refetch()" />

  <Spans :query="query" @go="go" />

  <section v-if="o" class="card px-3.5 py-3 mb-3.5">
    <Strip :overview="o" @narrow="(f, t) => go({ from: f, to: t })" @pick="pick" />
  </section>

  <div v-if="linkedApart" class="card mb-3.5">
    <p class="px-3.5 py-2 font-semibold">Change #{{ linkedApart.id }} of {{ linkedApart.device }}</p>
    <OneChange :change="linkedApart" :session="session" />
  </div>

  <div class="flex gap-1.5 items-center mb-2" role="group" aria-label="Group by">
    <Toggle
      v-for="(name, key) in {
        time: 'by time',
        device: 'by device',
        account: 'by account',
        site: 'by site',
        patterns: 'patterns',
      }"
      :key="key"
      :on="groupBy === key"
      @click="go({ group: key === 'time' ? '' : key })"
    >
      {{ name }}
    </Toggle>
    <RouterLink
      v-if="list.length"
      class="ml-auto text-second underline"
      :to="{ name: 'fleet', query: { selector } }"
      >these devices as a selector</RouterLink
    >
  </div>

  <Patterns
    v-if="o && groupBy === 'patterns'"
    :overview="o"
    @account="(a) => go({ account: a, group: '' })"
    @section="(s) => go({ section: s, group: '' })"
  />

  <Together v-if="chosen.size" :ids="[...chosen]" @done="chosen = new Set()" />

  <section v-for="g in groups" :key="g.title" class="card mb-2.5 overflow-hidden">
    <h2 v-if="g.title" class="px-3.5 py-2 font-semibold border-b border-line">
      {{ g.title }} <span class="font-normal text-second">{{ plural(g.items.length, 'change') }}</span>
    </h2>
    <div
      v-for="c in g.items"
      :key="c.id"
      :data-change="c.id"
      class="border-b border-line last:border-0 scroll-mt-4"
    >
      <div
        class="flex gap-2.5 items-start px-3.5 py-1.5"
        :class="flat[at]?.id === c.id && 'bg-accent-tint/50'"
      >
        <input
          type="checkbox"
          class="mt-1"
          :checked="chosen.has(c.id)"
          :aria-label="`Choose change ${c.id} of ${c.device}`"
          @change="choose(c.id)"
        />
        <ChangeLine :change="c" :open="opened.has(c.id)" @toggle="toggle(c.id)" />
      </div>
      <OneChange v-if="opened.has(c.id)" :change="c" :session="session" />
    </div>
  </section>
  <p v-if="changes.data.value && list.length < changes.data.value.total" class="text-second">
    {{ (changes.data.value.total - list.length).toLocaleString() }} more; narrow the span or the filter.
  </p>
</template>
