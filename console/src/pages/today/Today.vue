<script setup lang="ts">
import { computed, ref } from 'vue'
import { useFreshness } from '../../api/queries'
import { plural, quoted, since } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import FreshnessPicture from './FreshnessPicture.vue'

const report = useFreshness(ref(''))
const counts = computed(() => report.data.value?.counts)
const total = computed(() => {
  const c = counts.value
  return c ? c.fresh + c.late + c.stale + c.none : 0
})
const fleet = (selector: string) => ({ name: 'fleet', query: { selector } })
const sites = computed(() =>
  (report.data.value?.sites ?? []).filter((s) => s.counts.late + s.counts.stale + s.counts.none > 0),
)
const where = (list: string[]) =>
  list.length === 0 ? '' : list.length === 1 ? `at ${list[0]}` : `at ${list.length} sites`
</script>

<template>
  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="report.isPending.value">Looking …</template>
    <template v-else-if="report.error.value">Whether we are covered cannot be told.</template>
    <template v-else-if="!total">There are no devices yet.</template>
    <template v-else-if="counts">
      <template v-if="counts.fresh === total"
        >All {{ plural(total, 'device') }} have a fresh capture.</template
      >
      <template v-else>
        <RouterLink :to="fleet('freshness=fresh')">{{ counts.fresh.toLocaleString() }}</RouterLink> of
        {{ plural(total, 'device') }} have a fresh capture<template v-if="counts.late"
          >; <RouterLink :to="fleet('freshness=late')">{{ counts.late.toLocaleString() }}</RouterLink>
          {{ counts.late === 1 ? 'is' : 'are' }} late</template
        ><template v-if="counts.stale"
          >,
          <RouterLink :to="fleet('freshness=stale')">{{ counts.stale.toLocaleString() }}</RouterLink>
          stale</template
        ><template v-if="counts.none"
          >,
          <RouterLink :to="fleet('freshness=&quot;no capture yet&quot;')">{{
            counts.none.toLocaleString()
          }}</RouterLink>
          {{ counts.none === 1 ? 'has' : 'have' }} none yet</template
        >.
      </template>
    </template>
  </h1>
  <Trouble :error="report.error.value" :retry="() => report.refetch()" />
  <div v-if="report.data.value && !total" class="card p-5 text-second">
    <RouterLink class="underline" to="/add">Add or import devices</RouterLink>; they are captured at night
    from then on.
  </div>
  <template v-if="report.data.value && total">
    <section class="card px-3.5 py-3 mb-3.5">
      <h2 class="font-semibold mb-1">How fresh the fleet was</h2>
      <FreshnessPicture :history="report.data.value.history" />
    </section>

    <section class="card px-3.5 py-2.5 mb-3.5">
      <h2 class="font-semibold">What needs someone</h2>
      <p v-if="!report.data.value.problems.length" class="text-second py-1.5">
        Nothing: every visit of late was a good one.
      </p>
      <ul v-else>
        <li
          v-for="p in report.data.value.problems"
          :key="p.reason"
          class="flex gap-3 items-baseline border-b border-line last:border-0 py-2"
        >
          <span class="w-[190px] shrink-0">
            <RouterLink
              v-if="p.devices === 1"
              class="font-semibold hover:underline"
              :to="{ name: 'device', query: { name: p.names[0] } }"
              >{{ p.names[0] }}</RouterLink
            >
            <RouterLink v-else class="font-semibold hover:underline" :to="fleet(`problem=${p.reason}`)">{{
              plural(p.devices, 'device')
            }}</RouterLink>
            <span v-if="p.devices > 1" class="block text-second text-[11.5px] truncate">{{
              p.names.join(', ')
            }}</span>
          </span>
          <span class="flex-1">
            {{ p.advice }}
            <span class="block text-second text-[11.5px]"
              >for {{ since(p.since) }}<template v-if="p.sites.length">, {{ where(p.sites) }}</template></span
            >
          </span>
          <span class="tag bg-alarm-tint text-alarm">{{ p.reason }}</span>
        </li>
      </ul>
    </section>

    <section v-if="sites.length" class="card px-3.5 py-1">
      <table class="w-full">
        <caption class="text-left font-semibold py-2">
          Sites that are not all fresh
        </caption>
        <thead>
          <tr class="text-left text-second text-[11.5px] border-b border-line">
            <th class="py-1.5">Site</th>
            <th class="w-[110px] text-right">Fresh</th>
            <th class="w-[110px] text-right">Late</th>
            <th class="w-[110px] text-right">Stale</th>
            <th class="w-[130px] text-right">No capture yet</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in sites" :key="s.site" class="border-b border-line last:border-0 h-[33px]">
            <td>
              <RouterLink
                class="font-semibold hover:underline"
                :to="fleet(`site=${quoted(s.site)} not freshness=fresh`)"
                >{{ s.site || 'no site' }}</RouterLink
              >
            </td>
            <td class="text-right">{{ s.counts.fresh.toLocaleString() }}</td>
            <td class="text-right" :class="s.counts.late ? 'text-attention font-semibold' : ''">
              {{ s.counts.late || '' }}
            </td>
            <td class="text-right" :class="s.counts.stale ? 'text-alarm font-semibold' : ''">
              {{ s.counts.stale || '' }}
            </td>
            <td class="text-right" :class="s.counts.none ? 'text-alarm font-semibold' : ''">
              {{ s.counts.none || '' }}
            </td>
          </tr>
        </tbody>
      </table>
    </section>
  </template>
</template>
