<script setup lang="ts">
import { computed } from 'vue'
import { useRounds } from '../../api/queries'
import { plural } from '../../parts/say'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'

const rounds = useRounds()
const items = computed(() => rounds.data.value?.items ?? [])
const last = computed(
  () => items.value.find((r) => r.origin === 'schedule' && r.state === 'done') ?? items.value[0],
)
</script>

<template>
  <h1 class="answer mb-3">
    <template v-if="rounds.isPending.value">Looking …</template>
    <template v-else-if="last">
      The last full round reached {{ last.new + last.unchanged }} of {{ plural(last.planned, 'device') }};
      <RouterLink :to="`/rounds/${last.id}`">{{ last.failed }} failed</RouterLink>.
    </template>
    <template v-else>There has been no round yet.</template>
  </h1>
  <Trouble :error="rounds.error.value" :retry="() => rounds.refetch()" />
  <div v-if="!rounds.isPending.value && !items.length && !rounds.error.value" class="card p-5 text-second">
    Start one from the fleet with "Capture all now", or set a schedule:
    <code class="mono text-ink">vergekeep schedule add nightly --nightly 02:00</code>
  </div>
  <div v-if="items.length" class="card px-3.5 py-1">
    <table class="w-full">
      <thead>
        <tr class="text-left text-second text-[11.5px] border-b border-line">
          <th class="py-2 w-[80px]">Round</th>
          <th class="w-[150px]">Started</th>
          <th class="w-[110px]">By</th>
          <th>Over</th>
          <th class="w-[100px]">State</th>
          <th class="w-[70px] text-right">New</th>
          <th class="w-[90px] text-right">Unchanged</th>
          <th class="w-[70px] text-right">Failed</th>
          <th class="w-[100px] text-right">Passed over</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="r in items"
          :key="r.id"
          class="border-b border-line last:border-0 h-[33px] hover:bg-ground"
        >
          <td>
            <RouterLink class="font-semibold hover:underline" :to="`/rounds/${r.id}`">{{ r.id }}</RouterLink>
          </td>
          <td><Moment :at="r.started" /></td>
          <td>{{ r.schedule || r.account }}</td>
          <td class="mono truncate max-w-0">{{ r.selector || 'all' }}</td>
          <td>
            <span :class="r.state === 'done' ? 'text-second' : 'tag bg-accent-tint text-accent'">{{
              r.state
            }}</span>
          </td>
          <td class="text-right">{{ r.new.toLocaleString() }}</td>
          <td class="text-right">{{ r.unchanged.toLocaleString() }}</td>
          <td class="text-right" :class="r.failed ? 'text-alarm font-semibold' : ''">
            {{ r.failed.toLocaleString() }}
          </td>
          <td class="text-right">{{ r.passedOver.toLocaleString() }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
