<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type Enrolled, type ImportReport, type Session } from '../../api/call'
import { useDialects } from '../../api/queries'
import { plural } from '../../parts/say'
import { useAct } from '../../parts/act'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import Trouble from '../../parts/Trouble.vue'
import ImportFates from './ImportFates.vue'
import Imports from './Imports.vue'

const props = defineProps<{ session: Session }>()
const mayChange = computed(() => props.session.rights.includes('operate'))
const dialects = useDialects()
const said = ref('')
const { failed, busy, act } = useAct('devices')

const platforms = computed(() => Object.fromEntries((dialects.data.value ?? []).map((d) => [d.name, d.name])))
const one = ref({ name: '', address: '', platform: '', site: '', role: '' })
const add = () =>
  act(async () => {
    const d = await ask(api.POST('/devices', { body: one.value }))
    said.value = `${d.name} is in the fleet.`
    one.value = { ...one.value, name: '', address: '' }
  })

const text = ref('')
const change = ref(false)
const report = ref<ImportReport | null>(null)
const take = (dryRun: boolean) =>
  act(async () => {
    report.value = await ask(
      api.POST('/devices/import', { body: { text: text.value, dryRun, change: change.value } }),
    )
  })
async function pick(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (!file) return
  text.value = await file.text()
  await take(true)
}

const addresses = ref('')
const found = ref<Enrolled[] | null>(null)
const look = (keep: boolean) =>
  act(async () => {
    const list = addresses.value.split(/[\s,]+/).filter(Boolean)
    found.value = await ask(api.POST('/enrol', { body: { addresses: list, add: keep } }))
  })
</script>

<template>
  <h1 class="answer mb-3">Add one device, take in a list, or find out what is at an address.</h1>
  <p v-if="!mayChange" class="card p-3.5 text-second">This takes the right operate.</p>
  <Trouble :error="failed" />
  <p v-if="said" class="mb-3" role="status">{{ said }}</p>
  <template v-if="mayChange">
    <section class="card p-3.5 mb-3.5">
      <h2 class="font-semibold mb-2">One device</h2>
      <form class="flex flex-wrap gap-3 items-end" @submit.prevent="add">
        <Field v-model="one.name" label="Name" required />
        <Field
          v-model="one.address"
          label="Addresses; the first that answers is used"
          placeholder="192.0.2.17, 2001:db8::17"
          required
          wide
        />
        <Choice v-model="one.platform" label="Platform" :options="platforms" required />
        <Field v-model="one.site" label="Site" />
        <Field v-model="one.role" label="Role" />
        <button class="main-button" :disabled="busy">Add</button>
      </form>
    </section>

    <section class="card p-3.5 mb-3.5">
      <h2 class="font-semibold mb-2">A list</h2>
      <label class="block text-second text-[11.5px]">
        CSV, YAML or JSON; the first line of CSV names the columns
        <textarea
          v-model="text"
          class="control mono block w-full h-[110px] mt-1"
          placeholder="name,address,platform,site,role"
          spellcheck="false"
        ></textarea>
      </label>
      <div class="flex gap-2.5 mt-2 items-center">
        <label class="control cursor-pointer"
          >Choose a file <input type="file" class="sr-only" accept=".csv,.yaml,.yml,.json" @change="pick"
        /></label>
        <button class="control" :disabled="busy || !text.trim()" @click="take(true)">Dry run</button>
        <button class="main-button" :disabled="busy || !text.trim()" @click="take(false)">Take it in</button>
        <label class="text-second"
          ><input v-model="change" type="checkbox" class="mr-1" />change records that exist</label
        >
      </div>
      <ImportFates v-if="report" :report="report" />
    </section>

    <Imports :session="session" />

    <section class="card p-3.5">
      <h2 class="font-semibold mb-2">What is at an address?</h2>
      <form class="flex gap-3 items-end" @submit.prevent="look(false)">
        <Field
          v-model="addresses"
          label="Addresses, or a range; known credentials are tried, five addresses a second"
          placeholder="192.0.2.17 192.0.2.32/29"
          required
          wide
        />
        <button class="control py-1.5" :disabled="busy">Look</button>
        <button type="button" class="main-button" :disabled="busy || !addresses.trim()" @click="look(true)">
          Look and add
        </button>
      </form>
      <p v-if="busy" class="text-second mt-2" role="status">Looking …</p>
      <p v-if="found && !found.length" class="text-second mt-2">Nothing answered.</p>
      <ul v-if="found?.length" class="mt-2">
        <li v-for="f in found" :key="f.address" class="flex gap-3 border-b border-line last:border-0 py-1.5">
          <span class="mono w-[190px]">{{ f.address }}</span>
          <span class="w-[220px]"
            ><b>{{ f.platform ?? 'not recognised' }}</b
            ><template v-if="f.sure">, {{ f.sure }} of 100 sure</template></span
          >
          <span class="flex-1" :class="f.what && 'text-alarm'"
            >{{ f.what ?? f.because?.join('; ') }} {{ f.advice }}</span
          >
          <span v-if="f.added" class="tag bg-accent-tint text-accent">added</span>
        </li>
      </ul>
      <p v-if="found" class="text-second text-[11.5px] mt-1">{{ plural(found.length, 'address') }}</p>
    </section>
  </template>
</template>
