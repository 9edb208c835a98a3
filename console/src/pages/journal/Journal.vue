<script setup lang="ts">
import { useJournal } from '../../api/queries'
import { plural } from '../../parts/say'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'

const journal = useJournal()
</script>

<template>
  <h1 class="answer mb-3">
    <template v-if="journal.data.value?.length">
      {{ journal.data.value[0]!.account }} was the last to do something: {{ journal.data.value[0]!.action }},
      <Moment :at="journal.data.value[0]!.at" />.
    </template>
    <template v-else-if="journal.data.value">Nobody has done anything yet.</template>
    <template v-else>Who did what</template>
  </h1>
  <Trouble :error="journal.error.value" :retry="() => journal.refetch()" />
  <div v-if="journal.data.value?.length" class="card px-3.5 py-1">
    <table class="w-full">
      <caption class="sr-only">
        {{
          plural(journal.data.value.length, 'entry').replace('entrys', 'entries')
        }}, newest first
      </caption>
      <thead>
        <tr class="text-left text-second text-[11.5px]">
          <th class="py-2 w-[150px]">When</th>
          <th class="w-[110px]">Who</th>
          <th class="w-[150px]">Did</th>
          <th class="w-[220px]">To</th>
          <th>Detail</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in journal.data.value" :key="e.id" class="border-t border-line h-[33px]">
          <td><Moment :at="e.at" /></td>
          <td class="font-semibold">{{ e.account }}</td>
          <td>{{ e.action }}</td>
          <td>{{ e.object }}</td>
          <td class="text-second">{{ e.detail }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
