<script setup lang="ts">
// The hosts through which devices are reached that cannot be reached directly.
import { computed, ref } from 'vue'
import { api, ask, type Session } from '../../api/call'
import { useJumpHosts } from '../../api/queries'
import { useAct } from '../../parts/act'
import { quoted } from '../../parts/say'
import Field from '../../parts/Field.vue'
import HeadRow from '../../parts/HeadRow.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const mayChange = computed(() => props.session.rights.includes('administer'))
const jumps = useJumpHosts()
const { failed, act } = useAct('jumps')
const empty = { name: '', address: '', credential: '', via: '', atOnce: 0 }
const form = ref({ ...empty })
async function set() {
  const { name, address, credential, via, atOnce } = form.value
  const body = { address, credential, via, atOnce: Number(atOnce) || 0 }
  if (await act(() => ask(api.PUT('/jump-hosts/{name}', { params: { path: { name } }, body }))))
    form.value = { ...empty }
}
const remove = (name: string) =>
  act(() => ask(api.DELETE('/jump-hosts/{name}', { params: { path: { name } } })))
</script>

<template>
  <section v-if="!jumps.isPending.value" class="card px-3.5 py-2.5 mt-3.5">
    <h2 class="font-semibold">Jump hosts</h2>
    <Trouble :error="jumps.error.value ?? failed" />
    <table v-if="jumps.data.value?.length" class="w-full">
      <HeadRow
        :columns="[
          { title: 'Name', width: '180px' },
          { title: 'Address', width: '200px' },
          { title: 'Through', width: '120px' },
          { title: 'Credential', width: '160px' },
          { title: 'Visits at a time', width: '120px', right: true },
          { title: 'Host key' },
          { title: 'Change', width: '90px', hidden: true },
        ]"
      />
      <tbody>
        <tr v-for="j in jumps.data.value" :key="j.name" class="border-b border-line last:border-0 h-[36px]">
          <td class="font-semibold">
            <RouterLink
              class="hover:underline"
              :to="{ name: 'fleet', query: { selector: `via=${quoted(j.name)}` } }"
              >{{ j.name }}</RouterLink
            >
          </td>
          <td class="mono">{{ j.address }}</td>
          <td>{{ j.via || 'directly' }}</td>
          <td>{{ j.credential }}</td>
          <td class="text-right pr-3">{{ j.atOnce || 'any' }}</td>
          <td class="mono truncate max-w-0" :title="j.hostKeys.join('\n')">
            {{ j.hostKeys.join(', ') || 'recorded at the first visit' }}
          </td>
          <td class="text-right"><Sure v-if="mayChange" :what="j.name" @sure="remove(j.name)" /></td>
        </tr>
      </tbody>
    </table>
    <p v-else class="text-second py-1">
      None. A device whose record says "via" is reached through the jump host of that name.
    </p>
    <form v-if="mayChange" class="flex flex-wrap gap-3 items-end mt-2.5" @submit.prevent="set">
      <Field v-model="form.name" label="Name" required />
      <Field v-model="form.address" label="Address" placeholder="192.0.2.5" required />
      <Field v-model="form.credential" label="Credential" required />
      <Field v-model="form.via" label="Through another, if any" />
      <Field v-model.number="form.atOnce" label="Visits at a time, 0: any" type="number" />
      <button class="main-button">Set</button>
    </form>
  </section>
</template>
