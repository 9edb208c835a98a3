<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type NewSchedule, type Session } from '../../api/call'
import { useComing, useSchedules } from '../../api/queries'
import { plural } from '../../parts/say'
import { useAct } from '../../parts/act'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'
import ScheduleForm from './ScheduleForm.vue'

const props = defineProps<{ session: Session }>()
const schedules = useSchedules()
const coming = useComing()
const mayChange = computed(() => props.session.rights.includes('administer'))
const list = computed(() => schedules.data.value ?? [])
const next = computed(() => coming.data.value?.[0])

/** Which form is open: "Add", or a verb and a schedule's name. */
const open = ref('')
const { failed, act } = useAct('schedules', 'coming')
async function save(body: NewSchedule) {
  const name = open.value.startsWith('Change ') ? open.value.slice('Change '.length) : ''
  const well = await act(() =>
    name
      ? ask(api.PATCH('/schedules/{name}', { params: { path: { name } }, body }))
      : ask(api.POST('/schedules', { body })),
  )
  if (well) open.value = ''
}
const toggle = (what: string) => (open.value = open.value === what ? '' : what)
const pause = (name: string, paused: boolean) =>
  act(() => ask(api.PATCH('/schedules/{name}', { params: { path: { name } }, body: { paused } })))
const remove = (name: string) =>
  act(() => ask(api.DELETE('/schedules/{name}', { params: { path: { name } } })))
</script>

<template>
  <header class="flex gap-3 items-start mb-3">
    <h1 class="answer flex-1">
      <template v-if="schedules.isPending.value">Looking …</template>
      <template v-else-if="next">
        The next round is {{ next.schedule }}, <Moment :at="next.at" />, over
        {{ plural(next.devices, 'device') }}.
      </template>
      <template v-else>No round is coming by itself.</template>
    </h1>
    <button
      class="main-button"
      :disabled="!mayChange"
      :title="mayChange ? '' : 'This takes the right administer'"
      @click="toggle('Add')"
    >
      Add a schedule
    </button>
  </header>
  <Trouble :error="schedules.error.value ?? failed" />

  <div v-if="open === 'Add'" class="card p-3.5 mb-3.5"><ScheduleForm verb="Add" @done="save" /></div>

  <div v-if="list.length" class="card px-3.5 py-1">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Schedule' },
          { title: 'When', width: '130px' },
          { title: 'Over', width: '150px' },
          { title: 'Spread', width: '80px' },
          { title: 'Tries', width: '60px' },
          { title: 'Next', width: '140px' },
          { title: 'Change', width: '280px', hidden: true },
        ]"
      />
      <tbody>
        <template v-for="s in list" :key="s.name">
          <tr class="border-b border-line last:border-0 h-[40px]">
            <td>
              <b>{{ s.name }}</b> <span class="block text-[11.5px] text-second">{{ s.description }}</span>
            </td>
            <td>
              <span class="mono">{{ s.expression }}</span>
              <span class="block text-[11.5px] text-second">{{ s.zone }}</span>
            </td>
            <td class="mono">
              <RouterLink
                class="hover:underline"
                :to="{ name: 'fleet', query: s.selector ? { selector: s.selector } : {} }"
                >{{ s.selector || 'all devices' }}</RouterLink
              >
            </td>
            <td>{{ s.spreadMinutes ? `${s.spreadMinutes} min` : 'at once' }}</td>
            <td>{{ s.tries }}</td>
            <td>
              <span v-if="s.paused" class="tag bg-attention-tint text-attention">paused</span>
              <Moment v-else :at="s.next" />
            </td>
            <td class="text-right">
              <template v-if="mayChange">
                <button class="control" @click="pause(s.name, !s.paused)">
                  {{ s.paused ? 'Resume' : 'Pause' }}
                </button>
                <button class="control ml-1.5" @click="toggle(`Change ${s.name}`)">Change</button>
                <button class="control ml-1.5" @click="toggle(`Copy ${s.name}`)">Copy</button>
                <Sure class="ml-1.5" :what="s.name" @sure="remove(s.name)" />
              </template>
            </td>
          </tr>
          <tr v-for="verb in ['Change', 'Copy'].filter((v) => open === `${v} ${s.name}`)" :key="verb">
            <td colspan="7" class="py-2"><ScheduleForm :from="s" :verb="verb" @done="save" /></td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>

  <section v-if="coming.data.value?.length" class="card px-3.5 py-2.5 mt-3.5">
    <h2 class="font-semibold mb-1">Coming</h2>
    <ul>
      <li v-for="c in coming.data.value" :key="c.schedule + c.at" class="flex gap-4 leading-[26px]">
        <Moment :at="c.at" class="w-[150px]" /><span class="w-[180px]">{{ c.schedule }}</span
        ><span class="text-second">{{ plural(c.devices, 'device') }}</span>
      </li>
    </ul>
  </section>
</template>
