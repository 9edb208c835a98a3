<script setup lang="ts">
// Lists that are kept in step: where each comes from, and how its last run went.
import { computed, ref } from 'vue'
import { api, ask, zone, type ImportReport, type Session } from '../../api/call'
import { useImports } from '../../api/queries'
import { useAct } from '../../parts/act'
import Field from '../../parts/Field.vue'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'
import ImportFates from './ImportFates.vue'

const props = defineProps<{ session: Session }>()
const mayChange = computed(() => props.session.rights.includes('administer'))
const imports = useImports()
const { failed, busy, act } = useAct('imports', 'devices')
const form = ref({ name: '', from: '', expression: '0 * * * *' })
const report = ref<ImportReport | null>(null)
const of = ref('')
async function set() {
  const { name, from, expression } = form.value
  const body = { from, expression, zone }
  if (await act(() => ask(api.PUT('/imports/{name}', { params: { path: { name } }, body }))))
    form.value = { name: '', from: '', expression: '0 * * * *' }
}
const run = (name: string, preview: boolean) =>
  act(async () => {
    report.value = null
    of.value = name
    report.value = await ask(
      api.POST('/imports/{name}/run', { params: { path: { name }, query: { preview } } }),
    )
  })
const remove = (name: string) => act(() => ask(api.DELETE('/imports/{name}', { params: { path: { name } } })))
</script>

<template>
  <section class="card p-3.5 mb-3.5">
    <h2 class="font-semibold">Lists kept in step</h2>
    <Trouble :error="imports.error.value ?? failed" />
    <table v-if="imports.data.value?.length" class="w-full">
      <HeadRow
        :columns="[
          { title: 'List', width: '150px' },
          { title: 'From' },
          { title: 'When', width: '110px' },
          { title: 'Last run', width: '130px' },
          { title: 'What it said', width: '28%' },
          { title: 'Change', width: '240px', hidden: true },
        ]"
      />
      <tbody>
        <tr v-for="i in imports.data.value" :key="i.name" class="border-b border-line last:border-0 h-[36px]">
          <td class="font-semibold">{{ i.name }}</td>
          <td class="mono break-all">{{ i.from }}</td>
          <td class="mono">{{ i.expression }}</td>
          <td><Moment v-if="i.lastRun" :at="i.lastRun" /><template v-else>not yet</template></td>
          <td :class="i.lastFailed ? 'text-alarm' : 'text-second'">{{ i.lastSaid }}</td>
          <td class="text-right">
            <button class="control" :disabled="busy" @click="run(i.name, true)">Preview</button>
            <button class="control ml-1.5" :disabled="busy" @click="run(i.name, false)">Run now</button>
            <Sure v-if="mayChange" class="ml-1.5" :what="i.name" @sure="remove(i.name)" />
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="text-second py-1">
      None. A list is read again by itself from a file, an address, a git repository or a command; what
      vanishes from it is paused, not deleted.
    </p>
    <ImportFates v-if="report" :report="report" :of="of" />
    <form v-if="mayChange" class="flex flex-wrap gap-3 items-end mt-2.5" @submit.prevent="set">
      <Field v-model="form.name" label="Name" required />
      <Field
        v-model="form.from"
        label="From"
        placeholder="https://…, git:REPOSITORY#PATH, file:PATH or command:LINE"
        required
        wide
      />
      <Field v-model="form.expression" label="When (cron)" required />
      <button class="main-button" :disabled="busy">Set</button>
    </form>
  </section>
</template>
