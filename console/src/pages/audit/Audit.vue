<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { FindingQuery, Session } from '../../api/call'
import { api, ask } from '../../api/call'
import { useFindings, useScores } from '../../api/audits'
import { useAct } from '../../parts/act'
import { plural, quoted } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import Toggle from '../../parts/Toggle.vue'
import Grid from './Grid.vue'
import RuleFindings from './RuleFindings.vue'
import Trend from './Trend.vue'
import { called, percent } from './grid'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const document = computed(() => text(route.query['document']))
const site = computed(() => text(route.query['site']))
const state = computed(() => text(route.query['state']) || 'open')
const severity = computed(() => text(route.query['severity']))
const selector = computed(() => text(route.query['selector']))
const scores = useScores('grid', selector)
const query = computed(() => {
  const picked = [selector.value, site.value && `site="${site.value}"`].filter(Boolean).join(' ')
  const q: FindingQuery = { selector: picked, state: state.value as 'open' }
  if (document.value) q.document = document.value
  if (severity.value) q.severity = severity.value as 'high'
  return q
})
const findings = useFindings(query)
const severe = useFindings(computed(() => ({ state: 'open', severity: 'high', selector: selector.value })))
const severeDevices = computed(() => new Set(severe.data.value?.items.map((f) => f.device)).size)
const groups = computed(() => {
  const by = new Map<string, NonNullable<typeof findings.data.value>['items']>()
  for (const f of findings.data.value?.items ?? []) {
    const key = `${f.document}/${f.item}`
    by.set(key, [...(by.get(key) ?? []), f])
  }
  return [...by.values()]
})
const devices = computed(() => [...new Set(findings.data.value?.items.map((f) => f.device))])
const asSelector = computed(() => devices.value.map((d) => `name=${quoted(d)}`).join(' '))
function go(query: Record<string, string>) {
  void router.replace({ query: { ...route.query, ...query } })
}
const { failed, busy, act } = useAct('audits')
const auditNow = () =>
  act(() => ask(api.POST('/audits', { body: selector.value ? { selector: selector.value } : {} })))
const mayOperate = computed(() => props.session.rights.includes('operate'))
const states = { open: 'open', waived: 'waived', closed: 'closed' }
</script>

<template>
  <header class="flex gap-3 items-start mb-3">
    <h1 class="answer flex-1">
      <template v-if="!scores.data.value">Looking …</template>
      <template v-else-if="!scores.data.value.by.length">
        Nothing was audited yet: no device was captured, or no policy is for any.
      </template>
      <template v-else>
        {{ percent(scores.data.value.all.share) }} of what was asked holds;
        <template v-if="severe.data.value?.total">
          <RouterLink :to="{ query: { severity: 'high' } }">{{
            plural(severe.data.value.total, 'severe finding')
          }}</RouterLink>
          on {{ plural(severeDevices, 'device') }}.
        </template>
        <template v-else>no severe finding is open.</template>
      </template>
    </h1>
    <Trend v-if="scores.data.value" :trend="scores.data.value.trend" />
    <RouterLink class="control py-1.5" :to="{ name: 'waivers' }">Waivers</RouterLink>
    <button
      class="main-button"
      :disabled="!mayOperate || busy"
      :title="mayOperate ? '' : 'This takes the right operate'"
      @click="auditNow"
    >
      {{ busy ? 'Auditing …' : 'Audit now' }}
    </button>
  </header>
  <Trouble :error="scores.error.value ?? findings.error.value ?? failed" />
  <Grid
    v-if="scores.data.value?.by.length"
    :scores="scores.data.value.by"
    :document="document"
    :site="site"
    @pick="(d, s) => go({ document: d, site: s })"
  />
  <div class="flex flex-wrap gap-1.5 items-center mb-2.5">
    <h2 class="font-semibold mr-2">
      {{ plural(findings.data.value?.total ?? 0, 'finding')
      }}<template v-if="document"> of {{ called(document) }}</template
      ><template v-if="site"> at {{ site }}</template>
    </h2>
    <Toggle
      v-for="(word, key) in states"
      :key="key"
      :on="state === key"
      @click="go({ state: key === 'open' ? '' : key })"
    >
      {{ word }}
    </Toggle>
    <Toggle :on="severity === 'high'" @click="go({ severity: severity ? '' : 'high' })"> severe </Toggle>
    <button
      v-if="document || site"
      class="tag py-px border border-line text-second"
      @click="go({ document: '', site: '' })"
    >
      everywhere ×
    </button>
    <RouterLink
      v-if="devices.length"
      class="ml-auto underline text-second"
      :to="{ name: 'fleet', query: { selector: asSelector } }"
      >these devices as a selector</RouterLink
    >
  </div>
  <p v-if="findings.data.value && !findings.data.value.items.length" class="card p-5 text-second">
    {{ state === 'open' ? 'Nothing is wrong here.' : `Nothing is ${state} here.` }}
  </p>
  <RuleFindings
    v-for="g in groups"
    :key="`${g[0]!.document}/${g[0]!.item}`"
    :findings="g"
    :session="session"
    :unfolded="groups.length === 1 || text(route.query['rule']) === g[0]!.name"
    @unfold="(on) => go({ rule: on ? g[0]!.name : '' })"
  />
</template>
