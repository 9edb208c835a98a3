<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type Session } from '../../api/call'
import { useGroups, useSites } from '../../api/queries'
import { plural, quoted } from '../../parts/say'
import { useAct } from '../../parts/act'
import Field from '../../parts/Field.vue'
import HeadRow from '../../parts/HeadRow.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'
import JumpHosts from './JumpHosts.vue'

const props = defineProps<{ session: Session }>()
const mayChange = computed(() => props.session.rights.includes('operate'))
const groups = useGroups()
const sites = useSites()
// All is drawn at once, so that nothing jumps.
const settled = computed(() => !groups.isPending.value && !sites.isPending.value)
const form = ref({ name: '', selector: '', description: '' })
const { failed, act } = useAct('groups')
async function set() {
  const { name, selector, description } = form.value
  const well = await act(() =>
    ask(api.PUT('/groups/{name}', { params: { path: { name } }, body: { selector, description } })),
  )
  if (well) form.value = { name: '', selector: '', description: '' }
}
const remove = (name: string) => act(() => ask(api.DELETE('/groups/{name}', { params: { path: { name } } })))
const fleet = (selector: string) => ({ name: 'fleet', query: { selector } })
</script>

<template>
  <h1 class="answer mb-3">
    <template v-if="groups.isPending.value || sites.isPending.value">Looking …</template>
    <template v-else>
      {{ plural(groups.data.value?.length ?? 0, 'group') }}, and devices at
      {{ plural(sites.data.value?.length ?? 0, 'site') }}.
    </template>
  </h1>
  <Trouble :error="groups.error.value ?? sites.error.value ?? failed" />
  <template v-if="settled">
    <section class="card px-3.5 py-2.5 mb-3.5">
      <h2 class="font-semibold mb-1.5">Groups</h2>
      <table v-if="groups.data.value?.length" class="w-full">
        <thead class="sr-only">
          <tr>
            <th>Group</th>
            <th>Selector</th>
            <th>Devices</th>
            <th>Change</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="g in groups.data.value"
            :key="g.name"
            class="border-b border-line last:border-0 h-[36px]"
          >
            <td class="w-[220px]">
              <RouterLink class="font-semibold hover:underline" :to="fleet(`group=${quoted(g.name)}`)">{{
                g.name
              }}</RouterLink>
              <span class="block text-[11.5px] text-second">{{ g.description }}</span>
            </td>
            <td class="mono">{{ g.selector }}</td>
            <td class="w-[110px] text-right">{{ plural(g.devices, 'device') }}</td>
            <td class="w-[90px] text-right">
              <Sure v-if="mayChange" :what="g.name" @sure="remove(g.name)" />
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else class="text-second py-1">A group is a selector with a name; it may name other groups.</p>
      <form v-if="mayChange" class="flex flex-wrap gap-3 items-end mt-2.5" @submit.prevent="set">
        <Field v-model="form.name" label="Name" required />
        <Field
          v-model="form.selector"
          label="Selector"
          placeholder="role=edge not site=Vessels"
          required
          wide
        />
        <Field v-model="form.description" label="Description" wide />
        <button class="main-button">Set</button>
      </form>
    </section>
    <section class="card px-3.5 py-1">
      <table class="w-full">
        <caption class="text-left font-semibold py-2">
          Sites
        </caption>
        <HeadRow
          :columns="[
            { title: 'Site' },
            { title: 'Devices', width: '110px', right: true },
            { title: 'Visits at a time', width: '170px', right: true },
            { title: 'Closed hours', width: '45%' },
          ]"
        />
        <tbody>
          <tr v-for="s in sites.data.value" :key="s.name" class="border-b border-line last:border-0 h-[33px]">
            <td>
              <RouterLink class="font-semibold hover:underline" :to="fleet(`site=${quoted(s.name)}`)">{{
                s.name
              }}</RouterLink>
            </td>
            <td class="text-right pr-3">{{ s.devices.toLocaleString() }}</td>
            <td class="text-right pr-3">{{ s.atOnce || 'any' }}</td>
            <td class="text-second">
              {{ s.closed.join(', ') }}<template v-if="s.closed.length"> ({{ s.zone }})</template>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
    <JumpHosts :session="session" />
  </template>
</template>
