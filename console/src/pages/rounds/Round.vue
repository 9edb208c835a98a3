<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { useQueryClient } from '@tanstack/vue-query'
import { api, ask, type Session } from '../../api/call'
import { useRound } from '../../api/queries'
import { plural } from '../../parts/say'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'
import { reasonsOf } from './reasons'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const id = computed(() => Number(route.params['id']))
const query = useRound(id)
const round = computed(() => query.data.value?.round)
const done = computed(() =>
  round.value ? round.value.new + round.value.unchanged + round.value.failed + round.value.passedOver : 0,
)
const reasons = computed(() => reasonsOf(query.data.value?.visits ?? []))
const good = computed(() => (query.data.value?.visits ?? []).filter((v) => v.outcome === 'new'))
const few = 50
const all = ref(new Set<string>())
const queries = useQueryClient()

async function cancel() {
  await ask(api.POST('/rounds/{id}/cancel', { params: { path: { id: id.value } } }))
  await queries.invalidateQueries({ queryKey: ['round'] })
}
const bars = computed(() => {
  const r = round.value
  if (!r || !r.planned) return []
  return [
    { n: r.new, c: 'bg-accent', t: 'new' },
    { n: r.unchanged, c: 'bg-accent opacity-60', t: 'unchanged' },
    { n: r.passedOver, c: 'bg-attention', t: 'passed over' },
    { n: r.failed, c: 'bg-alarm', t: 'failed' },
  ].filter((b) => b.n)
})
</script>

<template>
  <Trouble :error="query.error.value" />
  <template v-if="round">
    <header class="flex gap-3 items-start mb-3">
      <h1 class="answer flex-1" aria-live="polite">
        <template v-if="round.state === 'running'">
          Round {{ round.id }} is running: {{ done.toLocaleString() }} of
          {{ plural(round.planned, 'device') }} visited<template v-if="round.failed"
            >, {{ round.failed.toLocaleString() }} failed</template
          >.
        </template>
        <template v-else>
          Round {{ round.id }} {{ round.state === 'cancelled' ? 'was cancelled' : 'is done' }}:
          {{ round.new.toLocaleString() }} new, {{ round.unchanged.toLocaleString() }} unchanged,
          {{ round.failed ? `${round.failed.toLocaleString()} failed` : 'none failed'
          }}<template v-if="round.passedOver">, {{ round.passedOver.toLocaleString() }} passed over</template
          >.
        </template>
      </h1>
      <button
        v-if="round.state === 'running' && props.session.rights.includes('operate')"
        class="control py-1.5"
        @click="cancel"
      >
        Cancel
      </button>
    </header>
    <div class="card p-3.5 mb-3.5">
      <div
        class="h-3.5 rounded-[3px] bg-ground flex overflow-hidden gap-px"
        role="progressbar"
        aria-label="Visits"
        :aria-valuenow="done"
        aria-valuemin="0"
        :aria-valuemax="round.planned"
      >
        <div
          v-for="b in bars"
          :key="b.t"
          :class="b.c"
          :title="`${b.n} ${b.t}`"
          :style="{ width: `${(100 * b.n) / round.planned}%` }"
        ></div>
      </div>
      <p class="mt-2 text-second">
        Started <Moment :at="round.started" /> by {{ round.account }} over
        <span class="mono">{{ round.selector || 'all devices' }}</span>
        <template v-if="round.ended"> · ended <Moment :at="round.ended" /></template>
      </p>
    </div>

    <section v-for="g in reasons" :key="g.code" class="card mb-3.5 px-3.5 py-2.5">
      <h2 class="flex gap-2.5 items-baseline">
        <span
          class="tag"
          :class="g.failed ? 'bg-alarm-tint text-alarm' : 'bg-attention-tint text-attention'"
          >{{ g.code }}</span
        >
        <span class="font-semibold">{{ plural(g.visits.length, 'device') }}</span>
        <span v-if="g.where" class="shrink-0">{{ g.where }}</span>
        <span class="text-second">{{ g.advice }}</span>
      </h2>
      <table class="w-full mt-1.5">
        <caption class="sr-only">
          Visits that ended with
          {{
            g.code
          }}
        </caption>
        <tbody>
          <tr
            v-for="v in all.has(g.code) ? g.visits : g.visits.slice(0, few)"
            :key="v.device"
            class="border-t border-line h-[33px]"
          >
            <td class="w-[170px]">
              <RouterLink
                class="font-semibold hover:underline"
                :to="{ name: 'device', query: { name: v.device } }"
                >{{ v.device }}</RouterLink
              >
            </td>
            <td class="w-[150px] text-second">{{ v.site }}</td>
            <td>
              {{ v.what }}<span v-if="v.tries" class="text-second"> ({{ v.tries }} tries)</span>
            </td>
            <td class="w-[90px] text-right">
              <RouterLink
                v-if="g.failed"
                class="underline text-second"
                :aria-label="`The visit to ${v.device} step by step`"
                :to="{ name: 'visit', params: { id }, query: { device: v.device } }"
                >the visit</RouterLink
              >
            </td>
          </tr>
        </tbody>
      </table>
      <button
        v-if="g.visits.length > few && !all.has(g.code)"
        class="control mt-1"
        @click="all = new Set([...all, g.code])"
      >
        Show all {{ g.visits.length.toLocaleString() }}
      </button>
    </section>

    <section v-if="good.length" class="card px-3.5 py-2.5">
      <h2 class="font-semibold">
        {{ plural(good.length, 'new revision').replace('new revisions', 'devices with new revisions') }}
      </h2>
      <ul class="mt-1.5 grid grid-cols-[repeat(auto-fill,minmax(180px,1fr))] gap-x-3">
        <li v-for="v in good.slice(0, 300)" :key="v.device" class="truncate leading-[26px]">
          <RouterLink class="hover:underline" :to="{ name: 'device', query: { name: v.device } }">{{
            v.device
          }}</RouterLink>
        </li>
      </ul>
      <p v-if="good.length > 300" class="text-second">and {{ (good.length - 300).toLocaleString() }} more</p>
    </section>
  </template>
</template>
