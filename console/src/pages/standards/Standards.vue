<script setup lang="ts">
import { computed } from 'vue'
import type { Session } from '../../api/call'
import { useDocuments, useScores } from '../../api/audits'
import { plural, when } from '../../parts/say'
import HeadRow from '../../parts/HeadRow.vue'
import Trouble from '../../parts/Trouble.vue'
import { percent } from '../audit/grid'

defineProps<{ session: Session }>()
const documents = useDocuments()
const scores = useScores(
  'document',
  computed(() => ''),
)
const list = computed(() => documents.data.value ?? [])
const count = (kind: string) => list.value.filter((d) => d.kind === kind).length
const score = (kind: string, name: string) => scores.data.value?.by.find((s) => s.name === `${kind}:${name}`)
</script>

<template>
  <header class="flex gap-2 items-start mb-3">
    <h1 class="answer flex-1">
      <template v-if="documents.isPending.value">Looking …</template>
      <template v-else
        >{{ plural(count('standard'), 'standard') }} and {{ count('policy') }}
        {{ count('policy') === 1 ? 'policy' : 'policies' }} say what should be.</template
      >
    </h1>
    <RouterLink class="control py-1.5" :to="{ name: 'document', query: { kind: 'policy' } }"
      >New policy</RouterLink
    >
    <RouterLink class="control py-1.5" :to="{ name: 'document', query: { kind: 'standard' } }"
      >New standard</RouterLink
    >
  </header>
  <Trouble :error="documents.error.value" />
  <div v-if="list.length" class="card px-3.5 py-1">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Name' },
          { title: 'What', width: '90px' },
          { title: 'Devices' },
          { title: 'Holds', width: '90px' },
          { title: 'Does not', width: '90px' },
          { title: 'Share', width: '80px' },
          { title: 'From' },
        ]"
      />
      <tbody>
        <tr
          v-for="d in list"
          :key="d.kind + d.name"
          class="border-b border-line last:border-0 h-[40px] align-top"
        >
          <td class="py-2 pr-3">
            <RouterLink
              class="font-semibold hover:underline"
              :to="{ name: 'document', query: { kind: d.kind, name: d.name } }"
              >{{ d.name }}</RouterLink><span class="block text-[11.5px] text-second">{{ d.title }}</span>
          </td>
          <td class="py-2">{{ d.kind }}</td>
          <td class="py-2 pr-3 mono">{{ d.applies || 'all devices' }}</td>
          <td class="py-2 tabular-nums">{{ score(d.kind, d.name)?.passed ?? '–' }}</td>
          <td class="py-2 tabular-nums">
            <RouterLink
              v-if="score(d.kind, d.name)?.failed"
              class="underline"
              :to="{ name: 'audit', query: { document: `${d.kind}:${d.name}` } }"
              >{{ score(d.kind, d.name)!.failed }}</RouterLink><template v-else>0</template>
          </td>
          <td class="py-2 tabular-nums">
            {{ score(d.kind, d.name) ? percent(score(d.kind, d.name)!.share) : '–' }}
          </td>
          <td class="py-2 text-second">{{ d.source || d.account }}, {{ when(d.at) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
