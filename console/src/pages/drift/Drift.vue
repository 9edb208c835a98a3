<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Drift, Session } from '../../api/call'
import { api, ask } from '../../api/call'
import { useDrift } from '../../api/audits'
import { useAct } from '../../parts/act'
import { plural, since, when } from '../../parts/say'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'
import Toggle from '../../parts/Toggle.vue'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const selector = computed(() => String(route.query['selector'] ?? ''))
const drift = useDrift(selector)
const list = computed(() => drift.data.value ?? [])
const of = (state: Drift['state']) => list.value.filter((d) => d.state === state)
const drifted = computed(() => of('drifted'))
const without = computed(() => of('no baseline'))
const oldest = computed(() => drifted.value.find((d) => d.since))
const states = computed(() => ({
  drifted: `drifted ${drifted.value.length}`,
  holds: `holds ${of('holds').length}`,
  'no baseline': `no baseline ${without.value.length}`,
}))
const state = computed(
  () =>
    String(route.query['state'] ?? '') ||
    (drifted.value.length || !without.value.length ? 'drifted' : 'no baseline'),
)
const shown = computed(() =>
  list.value.filter((d) => d.state === state.value || (state.value === 'drifted' && d.state === 'unknown')),
)
const { failed, act } = useAct('audits')
const bless = (d: Drift) =>
  act(() => ask(api.POST('/baselines', { body: { refs: [`${d.ref}@${d.newest}`] } })))
const mayBless = computed(() => props.session.rights.includes('operate'))
</script>

<template>
  <h1 class="answer mb-3">
    <template v-if="drift.isPending.value">Looking …</template>
    <template v-else-if="!list.length">Nothing was captured yet, so that nothing can drift.</template>
    <template v-else-if="drifted.length">
      {{ plural(drifted.length, 'configuration') }} of {{ list.length }}
      {{ drifted.length === 1 ? 'is' : 'are' }} no longer as blessed<template v-if="oldest?.since"
        >, the longest for {{ since(oldest.since) }}</template
      >.
    </template>
    <template v-else-if="without.length === list.length"
      >Nothing is blessed yet, so that nothing can drift.</template
    >
    <template v-else>Everything that is blessed is as it was.</template>
  </h1>
  <Trouble :error="drift.error.value ?? failed" />
  <div class="flex gap-1.5 mb-2.5">
    <Toggle
      v-for="(word, key) in states"
      :key="key"
      :on="state === key"
      @click="router.replace({ query: { ...route.query, state: key } })"
    >
      {{ word }}
    </Toggle>
  </div>
  <p v-if="list.length && !shown.length" class="card p-5 text-second">None.</p>
  <div v-if="shown.length" class="card px-3.5 py-1">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Configuration' },
          { title: 'How far' },
          { title: 'Since', width: '130px' },
          { title: 'Through' },
          { title: 'Blessed', width: '280px' },
          { title: 'Do', width: '110px', hidden: true },
        ]"
      />
      <tbody>
        <tr
          v-for="d in shown"
          :key="d.ref"
          class="border-b border-line last:border-0 h-[40px] align-top"
          :data-drift="d.ref"
        >
          <td class="py-2 pr-3">
            <RouterLink
              class="font-semibold hover:underline"
              :to="
                d.baseline && d.state !== 'holds'
                  ? { name: 'compare', query: { left: `${d.ref}@baseline`, right: d.ref } }
                  : { name: 'device', query: { name: d.device } }
              "
              >{{ d.ref }}</RouterLink><span class="block text-[11.5px] text-second">{{ d.site }}</span>
          </td>
          <td class="py-2 pr-3">{{ d.far || (d.state === 'holds' ? 'as it was' : '') }}</td>
          <td class="py-2 pr-3"><Moment :at="d.since" /></td>
          <td class="py-2 pr-3">
            <RouterLink
              v-for="id in d.changes"
              :key="id"
              class="underline mr-1.5"
              :to="{ name: 'changes', query: { from: '400d', change: id } }"
              >#{{ id }}</RouterLink
            >
          </td>
          <td class="py-2 pr-3 text-second">
            <template v-if="d.baseline">@{{ d.baseline }} by {{ d.account }}, {{ when(d.blessed) }}</template>
            <span v-if="d.remark" class="block text-[11.5px] truncate max-w-[260px]" :title="d.remark">{{
              d.remark
            }}</span>
          </td>
          <td class="py-1.5 text-right">
            <button
              v-if="d.state !== 'holds'"
              class="control"
              :disabled="!mayBless"
              :title="mayBless ? `@${d.newest} becomes the baseline` : 'This takes the right operate'"
              @click="bless(d)"
            >
              Bless @{{ d.newest }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
