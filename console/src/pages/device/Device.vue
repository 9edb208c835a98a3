<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useQueryClient } from '@tanstack/vue-query'
import type { Session } from '../../api/call'
import {
  useConfiguration,
  useDevice,
  useLines,
  useRevisions,
  useStartRound,
  useVisits,
} from '../../api/queries'
import { marks, plural, refOf, since, total, when } from '../../parts/say'
import { onLines } from '../../parts/findings'
import { besides } from '../../parts/lives'
import { useFindings } from '../../api/audits'
import ConfigText from '../../parts/ConfigText.vue'
import RevisionLine from '../../parts/RevisionLine.vue'
import Trouble from '../../parts/Trouble.vue'
import Toggle from '../../parts/Toggle.vue'
import DeviceAudit from './DeviceAudit.vue'
import DeviceLife from './DeviceLife.vue'
import RevisionTable from './RevisionTable.vue'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const asText = (v: unknown) => (typeof v === 'string' ? v : '')

const name = computed(() => asText(route.query['name']))
const device = useDevice(name)
const kinds = computed(() => device.data.value?.configurations ?? [])
const chosen = computed(() => {
  const wanted = asText(route.query['kind'])
  return (
    kinds.value.find((k) => kindOf(k) === wanted) ??
    kinds.value.find((k) => k.datastore === 'running') ??
    kinds.value[0]
  )
})
const kindOf = (k: { datastore: string; part: string }) => (k.part ? `${k.datastore}/${k.part}` : k.datastore)
const datastore = computed(() => chosen.value?.datastore ?? 'running')
const part = computed(() => chosen.value?.part ?? '')

const visits = useVisits(name)
const failedIn = computed(() => visits.data.value?.find((v) => v.visit.outcome === 'failed')?.round)
const revisions = useRevisions(name, datastore, part)
const newest = computed(() => revisions.data.value?.[0]?.number ?? 0)
const selected = computed(() => Number(asText(route.query['revision'])) || newest.value)
const shownRef = computed(() =>
  selected.value ? refOf(name.value, datastore.value, part.value, selected.value) : '',
)
const configuration = useConfiguration(shownRef)
const revision = computed(() => revisions.data.value?.find((r) => r.number === selected.value))
const withLives = computed(() => route.query['lives'] !== '0')
const lines = useLines(shownRef, withLives)
const beside = computed(() => {
  if (!withLives.value) return undefined
  const h = lines.data.value
  return h?.revision.ref === configuration.data.value?.revision.ref ? besides(h) : []
})
const findings = useFindings(computed(() => ({ selector: `name="${name.value}"` })))
const marked = computed(() => onLines(findings.data.value?.items ?? [], shownRef.value))
const text = ref<InstanceType<typeof ConfigText> | null>(null)

function go(query: Record<string, string>) {
  void router.replace({ query: { ...route.query, ...query } })
}
function compareWith(number: number) {
  const [a, b] = [Math.min(number, selected.value), Math.max(number, selected.value)]
  void router.push({
    name: 'compare',
    query: {
      left: refOf(name.value, datastore.value, part.value, a),
      right: refOf(name.value, datastore.value, part.value, b),
    },
  })
}
const unsaved = computed(() => (device.data.value?.unsaved ? total(device.data.value.unsaved) : 0))

const queries = useQueryClient()
const round = useStartRound()
const capturing = ref('')
async function capture() {
  const r = await round.mutateAsync(`name="${name.value}"`)
  capturing.value = `/rounds/${r.id}`
  window.setTimeout(() => void queries.invalidateQueries({ queryKey: ['device', name.value] }), 1500)
}
// Everything above the configuration is drawn at once, so that nothing jumps.
const settled = computed(
  () => device.data.value && (!chosen.value || revisions.data.value !== undefined || revisions.isError.value),
)
const mayOperate = computed(() => props.session.rights.includes('operate'))
</script>

<template>
  <Trouble :error="device.error.value" />
  <template v-if="device.data.value && settled">
    <header class="flex gap-3 items-start mb-3">
      <h1 class="answer flex-1">
        <template v-if="device.data.value.device.problem">
          {{ name }} could not be captured for {{ since(device.data.value.device.problem.since) }}.
        </template>
        <template v-else-if="device.data.value.device.lastChange">
          {{ name }} was last changed {{ when(device.data.value.device.lastChange) }}.
        </template>
        <template v-else>{{ name }} has not been captured yet.</template>
        <template v-if="unsaved">
          <RouterLink
            :to="{ name: 'compare', query: { left: refOf(name, 'startup'), right: refOf(name) } }"
            >{{ plural(unsaved, 'line') }}</RouterLink
          >
          would be lost at a restart<template v-if="device.data.value.device.unsavedSince"
            >; nothing was saved for {{ since(device.data.value.device.unsavedSince) }}</template
          >.
        </template>
      </h1>
      <RouterLink
        v-if="selected > 1"
        class="control py-1.5"
        :to="{
          name: 'compare',
          query: {
            left: refOf(name, datastore, part, selected - 1),
            right: refOf(name, datastore, part, selected),
          },
        }"
        >Compare with @{{ selected - 1 }}</RouterLink
      >
      <button
        class="main-button"
        :disabled="!mayOperate || round.isPending.value"
        :title="mayOperate ? '' : 'This takes the right operate'"
        @click="capture"
      >
        Capture now
      </button>
    </header>
    <div
      v-if="device.data.value.device.problem"
      class="rounded-[7px] bg-alarm-tint text-alarm px-3.5 py-2 mb-3.5"
      role="status"
    >
      {{ device.data.value.device.problem.what }} <b>{{ device.data.value.device.problem.advice }}</b>
      <RouterLink
        v-if="failedIn"
        class="underline ml-1"
        :to="{ name: 'visit', params: { id: failedIn }, query: { device: name } }"
        >The visit step by step</RouterLink
      >
    </div>
    <p v-if="capturing" class="mb-3 text-second" role="status">
      Being captured; see <RouterLink class="underline" :to="capturing">the round</RouterLink>.
    </p>

    <RevisionLine
      v-if="revisions.data.value?.length"
      :revisions="revisions.data.value"
      :selected="selected"
      @pick="(n) => go({ revision: String(n) })"
      @compare="compareWith"
    />

    <section v-if="chosen" class="card overflow-hidden">
      <div class="flex items-center gap-2 px-3.5 py-2 border-b border-line flex-wrap">
        <Toggle
          v-for="k in kinds"
          :key="k.ref"
          :on="k === chosen"
          @click="go({ kind: kindOf(k), revision: '' })"
        >
          {{ kindOf(k) }}{{ k.datastore === 'startup' && unsaved ? ', differs' : '' }}
        </Toggle>
        <span class="text-second ml-2">
          {{
            [
              device.data.value.device.model,
              device.data.value.device.serial && `serial ${device.data.value.device.serial}`,
              device.data.value.device.version,
            ]
              .filter(Boolean)
              .join(' · ')
          }}
        </span>
        <span v-if="revision" class="text-second ml-auto">
          @{{ revision.number }} · {{ plural(revision.lines, 'line') }}
          <template v-if="marks(revision.stats)"> · {{ marks(revision.stats) }}</template>
          <template v-if="configuration.data.value?.masked"> · secrets are hidden</template>
        </span>
        <button class="control" :aria-pressed="withLives" @click="go({ lives: withLives ? '0' : '' })">
          {{ withLives ? 'Without line history' : 'Since when, by whom' }}
        </button>
        <button class="control" @click="text?.toggleAll()">
          {{ text?.allFolded ? 'Unfold' : 'Fold sections' }}
        </button>
      </div>
      <p v-if="revision?.suspect" class="bg-attention-tint text-attention px-3.5 py-1.5">
        Suspect: {{ revision.suspect }}
      </p>
      <Trouble :error="configuration.error.value" />
      <div v-if="configuration.data.value" class="py-2 px-2">
        <ConfigText
          ref="text"
          :configuration="configuration.data.value"
          :beside="beside"
          :findings="marked"
          :line="Number(asText(route.query['line'])) || 0"
        />
      </div>
      <div
        v-else-if="configuration.isPending.value"
        class="p-3.5 text-second"
        :style="{ height: `${(revision?.lines ?? 1) * 20 + 16}px` }"
        role="status"
      >
        Looking …
      </div>
    </section>
    <div v-else-if="!device.data.value.device.problem" class="card p-5 text-second">
      Nothing has been captured yet. "Capture now" visits it.
    </div>

    <RevisionTable
      v-if="revisions.data.value && revisions.data.value.length > 1"
      :revisions="revisions.data.value"
      :selected="selected"
      @pick="(n) => go({ revision: String(n) })"
      @compare="compareWith"
    />
    <DeviceAudit :name="name" :findings="findings.data.value?.items ?? []" />
    <DeviceLife :detail="device.data.value" :visits="visits.data.value ?? []" />
  </template>
</template>
