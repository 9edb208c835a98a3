<script setup lang="ts">
// Which devices, accounts, sections and hours have most changes, and what is made
// and undone.
import { computed } from 'vue'
import type { ChangeOverview } from '../../api/call'
import { plural, quoted, when } from '../../parts/say'

const props = defineProps<{ overview: ChangeOverview }>()
const emit = defineEmits<{ account: [string]; section: [string] }>()
const days = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
const most = computed(() => Math.max(1, ...props.overview.byHour.flat()))
const top = 10
const tables = computed(() => [
  { title: 'Devices', list: props.overview.byDevice, kind: 'device' },
  { title: 'Accounts', list: props.overview.byAccount, kind: 'account' },
  { title: 'Sections', list: props.overview.bySection, kind: 'section' },
])
const selector = computed(() => props.overview.byDevice.map((d) => `name=${quoted(d.name)}`).join(' '))
const width = (n: number, list: { changes: number }[]) => `${(n / Math.max(1, list[0]?.changes ?? 1)) * 100}%`
// Of a long path the end says which section it is; the whole of it is in the title.
function ending(path: string) {
  const steps = path.split(' > ')
  return steps.length > 2 ? `… > ${steps.slice(-1)[0]}` : path
}
</script>

<template>
  <div class="grid grid-cols-3 gap-3.5 max-[1000px]:grid-cols-1">
    <section v-for="t in tables" :key="t.title" class="card px-3.5 py-3 min-w-0">
      <h2 class="font-semibold mb-2 flex justify-between">
        {{ t.title }}
        <RouterLink
          v-if="t.kind === 'device' && overview.byDevice.length"
          class="font-normal text-second underline"
          :to="{ name: 'fleet', query: { selector } }"
          >as a selector</RouterLink
        >
      </h2>
      <p v-if="!t.list.length" class="text-second">None.</p>
      <table v-else class="w-full">
        <tbody>
          <tr v-for="x in t.list.slice(0, top)" :key="x.name" class="h-[26px]">
            <td class="max-w-0 w-[55%] truncate pr-2" :title="x.name">
              <RouterLink
                v-if="t.kind === 'device'"
                class="hover:underline"
                :to="{ name: 'device', query: { name: x.name } }"
                >{{ x.name }}</RouterLink
              >
              <button
                v-else-if="t.kind === 'account'"
                class="hover:underline"
                @click="emit('account', x.name)"
              >
                {{ x.name }}
              </button>
              <button v-else class="hover:underline" @click="emit('section', x.name)">
                {{ ending(x.name) }}
              </button>
            </td>
            <td class="w-[30px] text-right pr-2 tabular-nums">{{ x.changes }}</td>
            <td>
              <div class="h-2 rounded-full bg-line" :style="{ width: width(x.changes, t.list) }">
                <div
                  class="h-2 rounded-full bg-alarm"
                  :style="{ width: `${(x.outside / x.changes) * 100}%` }"
                  :title="`${x.outside} outside agreed hours`"
                ></div>
              </div>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="t.list.length > top" class="text-[11.5px] text-second mt-1">
        and {{ t.list.length - top }} more
      </p>
      <p v-if="t.kind === 'account' && overview.unknown" class="text-[11.5px] text-second mt-1">
        Of {{ plural(overview.unknown, 'change') }} no signal says by whom.
      </p>
    </section>
    <section class="card px-3.5 py-3 col-span-2 max-[1000px]:col-span-1">
      <h2 class="font-semibold mb-2">By hour and weekday</h2>
      <table class="w-full table-fixed text-[11.5px]" aria-label="Changes by weekday and hour">
        <thead>
          <tr class="text-second">
            <th class="w-[36px]"><span class="sr-only">Day</span></th>
            <th v-for="h in 24" :key="h" class="font-normal">
              <span :class="(h - 1) % 3 !== 0 && 'sr-only'">{{ h - 1 }}</span>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(day, d) in overview.byHour" :key="d">
            <th class="text-left font-normal text-second">{{ days[d] }}</th>
            <td
              v-for="(n, h) in day"
              :key="h"
              class="p-px"
              :title="`${days[d]} ${h}:00: ${plural(n, 'change')}`"
            >
              <div
                class="h-[19px] rounded-[3px] grid place-items-center"
                :style="{
                  background: n
                    ? `color-mix(in srgb, var(--accent-tint) ${40 + (n / most) * 60}%, var(--surface))`
                    : 'var(--ground)',
                }"
              >
                {{ n || '' }}
              </div>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
    <section class="card px-3.5 py-3">
      <h2 class="font-semibold mb-2">Made and undone</h2>
      <p v-if="!overview.flapping.length" class="text-second">Nothing was undone.</p>
      <p
        v-for="f in overview.flapping.slice(0, top)"
        :key="f.device"
        class="flex justify-between gap-2 h-[26px]"
      >
        <RouterLink
          class="hover:underline truncate"
          :to="{ query: { selector: `name=${quoted(f.device)}`, from: '30d' } }"
          >{{ f.device }}</RouterLink
        >
        <span class="text-second whitespace-nowrap">{{ f.undone }} ×, last {{ when(f.last) }}</span>
      </p>
    </section>
  </div>
</template>
