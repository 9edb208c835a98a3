<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type Session } from '../../api/call'
import { useCredentials } from '../../api/queries'
import { plural } from '../../parts/say'
import { useAct } from '../../parts/act'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import HeadRow from '../../parts/HeadRow.vue'
import Moment from '../../parts/Moment.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const mayChange = computed(() => props.session.rights.includes('administer'))
const credentials = useCredentials(mayChange)
const list = computed(() => credentials.data.value ?? [])
const resting = computed(() => list.value.filter((c) => c.restsUntil).length)

const empty = {
  name: '',
  kind: 'password' as 'password' | 'key' | 'token' | 'community' | 'snmp',
  username: '',
  password: '',
  elevation: '',
  key: '',
  passphrase: '',
  token: '',
  community: '',
  authentication: '',
  privacy: '',
  selector: '',
  perMinute: '' as number | '',
  commandsPerMinute: '' as number | '',
}
const kinds = {
  password: 'password',
  key: 'SSH key',
  token: 'token, for HTTPS',
  community: 'SNMP community, for enrolment',
  snmp: 'SNMP user, for enrolment',
}
const form = ref({ ...empty })
const open = ref<'' | 'add' | string>('')
const { failed, act: attempt } = useAct('credentials')
async function act(call: () => Promise<unknown>) {
  if (await attempt(call)) {
    open.value = ''
    form.value = { ...empty }
  }
}
const given = (s: string) => s || undefined
const add = () =>
  act(() =>
    ask(
      api.POST('/credentials', {
        body: {
          name: form.value.name,
          username: given(form.value.username),
          password: given(form.value.password),
          elevation: given(form.value.elevation),
          key: given(form.value.key),
          passphrase: given(form.value.passphrase),
          token: given(form.value.token),
          community: given(form.value.community),
          authentication: given(form.value.authentication),
          privacy: given(form.value.privacy),
          selector: given(form.value.selector),
          perMinute: Number(form.value.perMinute) || 0,
          commandsPerMinute: Number(form.value.commandsPerMinute) || 0,
        },
      }),
    ),
  )
const change = (name: string) =>
  act(() =>
    ask(
      api.PATCH('/credentials/{name}', {
        params: { path: { name } },
        body: { password: given(form.value.password), elevation: given(form.value.elevation) },
      }),
    ),
  )
const wake = (name: string) =>
  act(() => ask(api.POST('/credentials/{name}/wake', { params: { path: { name } } })))
const remove = (name: string) =>
  act(() => ask(api.DELETE('/credentials/{name}', { params: { path: { name } } })))
</script>

<template>
  <header class="flex gap-3 items-start mb-3">
    <h1 class="answer flex-1">
      <template v-if="!mayChange">Credentials take the right administer.</template>
      <template v-else-if="credentials.isPending.value">Looking …</template>
      <template v-else-if="!list.length">There is no credential yet.</template>
      <template v-else-if="resting">
        {{ plural(resting, 'credential') }} of {{ list.length }}
        {{ resting === 1 ? 'was refused too often and rests' : 'were refused too often and rest' }}.
      </template>
      <template v-else>{{ plural(list.length, 'credential') }}; none was refused too often.</template>
    </h1>
    <button v-if="mayChange" class="main-button" @click="open = open === 'add' ? '' : 'add'">
      Add a credential
    </button>
  </header>
  <Trouble :error="credentials.error.value ?? failed" />

  <form
    v-if="open === 'add'"
    class="card p-3.5 mb-3.5 flex flex-wrap gap-3 items-end"
    autocomplete="off"
    @submit.prevent="add"
  >
    <Field v-model="form.name" label="Name" required />
    <Choice v-model="form.kind" label="Kind" :options="kinds" />
    <Field
      v-if="form.kind !== 'community' && form.kind !== 'token'"
      v-model="form.username"
      label="User name"
      required
    />
    <Field
      v-if="form.kind === 'password'"
      v-model="form.password"
      label="Password"
      type="password"
      required
    />
    <template v-if="form.kind === 'key'">
      <label class="text-second text-[11.5px] flex-1 min-w-[220px]"
        >Private key
        <textarea v-model="form.key" class="control mono block w-full h-[70px]" required spellcheck="false" />
      </label>
      <Field v-model="form.passphrase" label="Its passphrase, if any" type="password" />
    </template>
    <Field v-if="form.kind === 'token'" v-model="form.token" label="Token" type="password" required />
    <Field
      v-if="form.kind === 'community'"
      v-model="form.community"
      label="Community"
      type="password"
      required
    />
    <template v-if="form.kind === 'snmp'">
      <Field v-model="form.authentication" label="Authentication pass phrase" type="password" required />
      <Field v-model="form.privacy" label="Privacy pass phrase, if any" type="password" />
    </template>
    <Field
      v-if="form.kind === 'password' || form.kind === 'key'"
      v-model="form.elevation"
      label="Elevation secret, if any"
      type="password"
    />
    <Field v-model="form.selector" label="For (selector)" placeholder="all devices" wide />
    <Field v-model.number="form.perMinute" label="Logins a minute" type="number" placeholder="any" />
    <Field
      v-model.number="form.commandsPerMinute"
      label="Commands a minute"
      type="number"
      placeholder="any"
    />
    <button class="main-button">Add</button>
  </form>

  <div v-if="list.length" class="card px-3.5 py-1">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Credential' },
          { title: 'User', width: '120px' },
          { title: 'For' },
          { title: 'Rank', width: '60px' },
          { title: 'Kind', width: '100px' },
          { title: 'State', width: '190px' },
          { title: 'Change', width: '260px', hidden: true },
        ]"
      />
      <tbody>
        <template v-for="c in list" :key="c.name">
          <tr class="border-b border-line last:border-0 h-[36px]">
            <td class="font-semibold">{{ c.name }}</td>
            <td>{{ c.username }}</td>
            <td class="mono">{{ c.selector || 'all devices' }}</td>
            <td>{{ c.rank }}</td>
            <td>
              {{ c.kind }}<template v-if="c.source">, from {{ c.source }}</template>
            </td>
            <td>
              <span v-if="c.kind === 'community' || c.kind === 'SNMP user'" class="text-second"
                >asks, never logs in</span
              >
              <span v-else-if="c.restsUntil" class="tag bg-alarm-tint text-alarm"
                >rests until <Moment :at="c.restsUntil"
              /></span>
              <span v-else-if="c.proven" class="text-second">proven <Moment :at="c.proven" /></span>
              <span v-else class="text-second">not proven yet</span>
            </td>
            <td class="text-right">
              <button v-if="c.restsUntil" class="control" @click="wake(c.name)">Wake</button>
              <button
                v-if="c.kind === 'password'"
                class="control ml-1.5"
                @click="open = open === c.name ? '' : c.name"
              >
                New password
              </button>
              <Sure class="ml-1.5" :what="c.name" @sure="remove(c.name)" />
            </td>
          </tr>
          <tr v-if="open === c.name">
            <td colspan="7" class="py-2">
              <form class="flex gap-3 items-end" autocomplete="off" @submit.prevent="change(c.name)">
                <Field v-model="form.password" label="New password" type="password" />
                <Field v-model="form.elevation" label="New elevation secret" type="password" />
                <button class="main-button">Change</button>
                <span class="text-second">It is tried on one device alone first.</span>
              </form>
            </td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>
