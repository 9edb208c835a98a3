<script setup lang="ts">
// What there is to know of a device besides its configurations: how it was
// visited, what visits it, and what it said about itself.
import type { DeviceDetail, RoundVisit } from '../../api/call'
import { duration } from '../../parts/say'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'

defineProps<{ detail: DeviceDetail; visits: RoundVisit[] }>()
const tone: Record<string, string> = {
  failed: 'tag bg-alarm-tint text-alarm',
  'passed-over': 'tag bg-attention-tint text-attention',
}
</script>

<template>
  <div class="grid grid-cols-2 gap-3.5 mt-3.5 items-start">
    <section class="card px-3.5 py-2.5" aria-label="Visits">
      <h2 class="font-semibold">Visits</h2>
      <table v-if="visits.length" class="w-full">
        <HeadRow
          :columns="[
            { title: 'When', width: '130px' },
            { title: 'Outcome', width: '96px' },
            { title: 'Took', width: '70px' },
            { title: 'What', hidden: true },
          ]"
        />
        <tbody>
          <tr v-for="v in visits" :key="v.round" class="border-b border-line last:border-0 h-[30px]">
            <td>
              <RouterLink
                class="hover:underline"
                :to="{ name: 'visit', params: { id: v.round }, query: { device: v.visit.device } }"
                ><Moment :at="v.visit.started"
              /></RouterLink>
            </td>
            <td>
              <span :class="tone[v.visit.outcome]">{{ v.visit.outcome }}</span>
            </td>
            <td class="tabular-nums">{{ v.visit.tookMs === undefined ? '' : duration(v.visit.tookMs) }}</td>
            <td class="text-second">{{ v.visit.what }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="text-second">None in the last rounds.</p>
    </section>
    <div class="grid gap-3.5">
      <section class="card px-3.5 py-2.5" aria-label="Schedules">
        <h2 class="font-semibold">Schedules that reach it</h2>
        <ul v-if="detail.schedules.length">
          <li v-for="s in detail.schedules" :key="s.name" class="flex gap-3 leading-[26px]">
            <RouterLink class="hover:underline flex-1" :to="{ name: 'schedules' }">{{ s.name }}</RouterLink>
            <span v-if="s.paused" class="tag bg-attention-tint text-attention">paused</span>
            <span v-else class="text-second">next <Moment :at="s.next" /></span>
          </li>
        </ul>
        <p v-else class="text-attention">None: it is only captured when somebody asks.</p>
      </section>
      <section v-if="detail.nameplates.length" class="card px-3.5 py-2.5" aria-label="Nameplate">
        <h2 class="font-semibold">What it said it is</h2>
        <p v-if="detail.sameSerial.length" class="text-alarm">
          Also on record with this serial number: {{ detail.sameSerial.join(', ') }}
        </p>
        <ul>
          <li v-for="p in detail.nameplates" :key="p.since" class="flex gap-3 leading-[26px]">
            <Moment :at="p.since" class="w-[130px] shrink-0 text-second" />
            <span>{{
              [p.model, p.serial && `serial ${p.serial}`, p.version].filter(Boolean).join(' · ')
            }}</span>
          </li>
        </ul>
      </section>
    </div>
  </div>
</template>
