<script setup lang="ts">
import { computed } from 'vue'
import type { Session, Waiver } from '../../api/call'
import { api, ask } from '../../api/call'
import { useWaivers } from '../../api/audits'
import { useAct } from '../../parts/act'
import { daysUntil, plural, when } from '../../parts/say'
import HeadRow from '../../parts/HeadRow.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const waivers = useWaivers()
const list = computed(() => waivers.data.value ?? [])
const inForce = computed(() => list.value.filter((w) => w.state === 'in force'))
const days = (w: Waiver) => daysUntil(w.until)
const soon = computed(() => inForce.value.filter((w) => days(w) <= 7))
const { failed, act } = useAct('audits')
const revoke = (id: number) => act(() => ask(api.DELETE('/waivers/{id}', { params: { path: { id } } })))
const mayWaive = computed(() => props.session.rights.includes('administer'))
const what = (w: Waiver) => `${w.document.split(':')[1]}${w.item ? `/${w.item}` : ''}`
</script>

<template>
  <h1 class="answer mb-3">
    <template v-if="waivers.isPending.value">Looking …</template>
    <template v-else-if="!inForce.length">Nothing is waived.</template>
    <template v-else
      >{{ plural(inForce.length, 'exception') }} in force<template v-if="soon.length"
        >; {{ soon.length }} {{ soon.length === 1 ? 'runs' : 'run' }} out within a week</template
      >.</template
    >
  </h1>
  <Trouble :error="waivers.error.value ?? failed" />
  <p v-if="!list.length && !waivers.isPending.value" class="card p-5 text-second">
    A finding is waived from the
    <RouterLink class="underline" :to="{ name: 'audit' }">audit page</RouterLink>: who approved it, why, until
    when.
  </p>
  <div v-if="list.length" class="card px-3.5 py-1">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'For' },
          { title: 'Devices' },
          { title: 'Why' },
          { title: 'Approved by', width: '110px' },
          { title: 'Until', width: '170px' },
          { title: 'Take back', width: '90px', hidden: true },
        ]"
      />
      <tbody>
        <tr v-for="w in list" :key="w.id" class="border-b border-line last:border-0 h-[40px] align-top">
          <td class="py-2 pr-3 font-semibold">{{ what(w) }}</td>
          <td class="py-2 pr-3 mono" :class="w.device && 'whitespace-nowrap'">
            {{ w.device || w.selector || 'all devices' }}
          </td>
          <td class="py-2 pr-3">{{ w.reason }}</td>
          <td class="py-2 pr-3">{{ w.approved }}</td>
          <td class="py-2 pr-3">
            {{ when(w.until) }}
            <span v-if="w.state !== 'in force'" class="tag border border-line text-second">{{
              w.state
            }}</span>
            <span
              v-else
              class="tag"
              :class="days(w) <= 7 ? 'bg-attention-tint text-attention' : 'border border-line text-second'"
              >{{ days(w) ? `${plural(days(w), 'day')} left` : 'today' }}</span
            >
          </td>
          <td class="py-1.5 text-right">
            <Sure
              v-if="mayWaive && w.state === 'in force'"
              :what="`the waiver for ${what(w)}`"
              @sure="revoke(w.id)"
            />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
