<script setup lang="ts">
// The whole network at a time, and what differs since.
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Session } from '../../api/call'
import { useFleetAt, useFleetComparison, useMoments } from '../../api/queries'
import { useAct } from '../../parts/act'
import { marks, plural, total, when } from '../../parts/say'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const asText = (v: unknown) => (typeof v === 'string' ? v : '')
const at = computed(() => asText(route.query['at']) || '1d')
const selector = computed(() => asText(route.query['selector']))
const days = 60
const hours = ref(24)
const typed = ref(at.value)
watch(
  at,
  (a) => {
    typed.value = a
    const m = /^(\d+)([hd])$/.exec(a)
    if (m) hours.value = Number(m[1]) * (m[2] === 'd' ? 24 : 1)
  },
  { immediate: true },
)
function go(query: Record<string, string>) {
  const next = { ...route.query, ...query }
  for (const k of Object.keys(next)) if (!next[k]) delete next[k]
  void router.replace({ query: next })
}
const picked = ref(selector.value)
const comparison = useFleetComparison(at, selector)
const then = useFleetAt(at, selector)
const moments = useMoments()
const showAll = ref(false)
const most = 200

const differs = computed(() => comparison.data.value?.items ?? [])
const answer = computed(() => {
  const c = comparison.data.value
  if (!c) return ''
  const since = when(c.from)
  if (!differs.value.length)
    return `Nothing in the fleet differs from ${since}; ${c.same.toLocaleString()} configurations are the same.`
  return `${plural(differs.value.length, 'configuration')} differ from ${since}; ${c.same.toLocaleString()} are the same.`
})
const name = ref('')
const { failed, act } = useAct('moments')
async function keep() {
  const path = { name: name.value.trim() }
  const body = { at: comparison.data.value?.from ?? at.value }
  if (path.name && (await act(() => ask(api.PUT('/moments/{name}', { params: { path }, body })))))
    name.value = ''
}
const mayOperate = computed(() => props.session.rights.includes('operate'))
</script>

<template>
  <form
    class="flex gap-2.5 items-end mb-3 flex-wrap"
    @submit.prevent="go({ at: typed.trim(), selector: picked.trim() })"
  >
    <label class="text-second text-[11.5px] w-[230px]">
      As of
      <input
        v-model="typed"
        data-search
        class="control block w-full h-[34px] text-[13.5px]"
        placeholder="9d, 36h, 2026-11-20T18:00, a moment"
        spellcheck="false"
        list="moments"
      />
    </label>
    <datalist id="moments">
      <option v-for="m in moments.data.value ?? []" :key="m.name" :value="m.name">{{ when(m.at) }}</option>
    </datalist>
    <label class="text-second text-[11.5px] flex-1 min-w-[220px]">
      {{ hours < 48 ? `${hours} hours ago` : `${Math.round(hours / 24)} days ago` }}
      <input
        v-model.number="hours"
        type="range"
        class="block w-full h-[34px] accent-accent"
        :min="1"
        :max="days * 24"
        :step="1"
        style="direction: rtl"
        @change="go({ at: `${hours}h` })"
      />
    </label>
    <label class="text-second text-[11.5px] w-[220px]">
      Devices
      <input
        v-model="picked"
        class="control block w-full h-[34px] text-[13.5px]"
        placeholder="all"
        spellcheck="false"
      />
    </label>
    <button class="main-button h-[34px]">Show</button>
  </form>

  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="comparison.error.value">There is no such time.</template>
    <template v-else>{{ answer || 'Looking …' }}</template>
  </h1>
  <Trouble :error="comparison.error.value ?? failed" />

  <template v-if="comparison.data.value && then.data.value && !comparison.error.value">
    <section class="card px-3.5 py-1">
      <div class="flex items-center gap-2 py-2">
        <h2 class="font-semibold flex-1">What differs now</h2>
        <form v-if="mayOperate" class="flex gap-1.5" @submit.prevent="keep">
          <input
            v-model="name"
            class="control w-[200px]"
            aria-label="Name of this moment"
            placeholder="before the migration"
          />
          <button class="control" :disabled="!name.trim()">Name this moment</button>
        </form>
      </div>
      <table v-if="differs.length" class="w-full">
        <HeadRow
          :columns="[
            { title: 'Device', width: '220px' },
            { title: 'Site', width: '180px' },
            { title: 'Then', width: '120px' },
            { title: 'Now', width: '120px' },
            { title: 'Since', width: '150px' },
            { title: 'Differs' },
            { title: 'Compare', hidden: true },
          ]"
        />
        <tbody>
          <tr
            v-for="d in differs.slice(0, most)"
            :key="d.right?.ref ?? d.device"
            class="border-b border-line last:border-0 h-[33px]"
          >
            <td>
              <RouterLink
                class="hover:underline font-semibold"
                :to="{ name: 'device', query: { name: d.device } }"
                >{{ (d.right ?? d.left)!.ref.replace(/@[^@]*$/, '') }}</RouterLink
              >
            </td>
            <td class="text-second">{{ d.site }}</td>
            <td>{{ d.left ? `@${d.left.number}` : 'nothing yet' }}</td>
            <td>@{{ d.right?.number }}</td>
            <td><Moment :at="d.right?.firstSeen" /></td>
            <td class="mono">
              {{ d.stats && total(d.stats) ? marks(d.stats) : d.left ? 'order, blanks or secrets' : 'new' }}
            </td>
            <td class="text-right">
              <RouterLink
                v-if="d.left && d.right"
                class="control"
                :to="{ name: 'compare', query: { left: d.left.ref, right: d.right.ref } }"
                >Compare</RouterLink
              >
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else class="pb-2 text-second">Everything is as it was.</p>
      <p v-if="differs.length > most" class="py-2 text-second">
        {{ (differs.length - most).toLocaleString() }} more; pick fewer devices.
      </p>
    </section>
    <section class="card px-3.5 py-1 mt-3.5">
      <div class="flex items-center py-2">
        <h2 class="font-semibold flex-1">
          What was in force then: {{ plural(then.data.value.configurations.length, 'configuration') }}
          <span v-if="then.data.value.without.length" class="text-second font-normal"
            >· nothing yet of {{ plural(then.data.value.without.length, 'device') }}</span
          >
        </h2>
        <button class="control" @click="showAll = !showAll">{{ showAll ? 'Hide' : 'Show' }}</button>
      </div>
      <ul v-if="showAll" class="columns-3 pb-2">
        <li v-for="c in then.data.value.configurations.slice(0, 1000)" :key="c.revision.ref">
          <RouterLink
            class="hover:underline mono"
            :to="{
              name: 'device',
              query: {
                name: c.device,
                kind: c.revision.part ? `${c.revision.datastore}/${c.revision.part}` : c.revision.datastore,
                revision: String(c.revision.number),
              },
            }"
            >{{ c.revision.ref }}</RouterLink
          >
        </li>
      </ul>
    </section>
  </template>
</template>
