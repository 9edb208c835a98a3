<script setup lang="ts">
import { computed, ref } from 'vue'
import { api, ask, type Letter, type Session, type Subscription, type SubscriptionEdit } from '../../api/call'
import { useChannels, useDeliveries, useSubscriptions } from '../../api/happenings'
import { useAct } from '../../parts/act'
import { inWords } from '../../parts/cron'
import { plural } from '../../parts/say'
import HeadRow from '../../parts/HeadRow.vue'
import Sure from '../../parts/Sure.vue'
import Trouble from '../../parts/Trouble.vue'
import Channels from './Channels.vue'
import Deliveries from './Deliveries.vue'
import Subscribe from './Subscribe.vue'
import { happenings } from './events'

const props = defineProps<{ session: Session }>()
const mayAdminister = computed(() => props.session.rights.includes('administer'))
const mayOperate = computed(() => props.session.rights.includes('operate'))
const channels = useChannels()
const subscriptions = useSubscriptions()
const deliveries = useDeliveries()
const list = computed(() => subscriptions.data.value ?? [])
const sent = computed(() => deliveries.data.value?.items ?? [])
const answer = computed(() => {
  if (!subscriptions.data.value || !deliveries.data.value || !channels.data.value) return 'Looking …'
  const dead = sent.value.filter((d) => d.state === 'dead').length
  const waiting = sent.value.filter((d) => d.state === 'waiting').length
  const said = plural(list.value.length, 'subscription')
  if (dead) return `${plural(dead, 'message')} could not be sent.`
  if (channels.data.value.every((c) => c.kind === 'console'))
    return `${said}, all to the console: nobody gets mail yet.`
  if (waiting) return `${said}; ${plural(waiting, 'message')} to be sent.`
  return `${said}; all that was to be sent was sent.`
})
const channelNames = computed(() =>
  Object.fromEntries((channels.data.value ?? []).map((c) => [c.name, c.name])),
)
const { failed, act } = useAct('subscriptions', 'deliveries')
const adding = ref(false)
const put = (name: string, body: SubscriptionEdit) =>
  act(() => ask(api.PUT('/subscriptions/{name}', { params: { path: { name } }, body })))
async function save(name: string, body: SubscriptionEdit) {
  if (await put(name, body)) adding.value = false
}
const remove = (name: string) =>
  act(() => ask(api.DELETE('/subscriptions/{name}', { params: { path: { name } } })))
const letter = ref<Letter | null>(null)
const preview = (body: SubscriptionEdit) =>
  act(async () => {
    letter.value = await ask(api.POST('/preview', { body }))
  })
const bodyOf = (s: Subscription): SubscriptionEdit => ({
  events: s.events,
  selector: s.selector,
  severity: s.severity,
  channel: s.channel,
  digest: s.digest,
  zone: s.zone,
  idle: s.idle,
  quiet: s.quiet,
  perHour: s.perHour,
  subject: s.subject ?? '',
  body: s.body ?? '',
  paused: s.paused,
})
const again = (id: number) => act(() => ask(api.POST('/deliveries/{id}/retry', { params: { path: { id } } })))
function said(s: Subscription) {
  const of = s.events.map((e) => happenings[e]).join(', ')
  return s.severity === 'low' ? of : `${of}, ${s.severity} severity`
}
</script>

<template>
  <header class="flex gap-2 items-start mb-3">
    <h1 class="answer flex-1" aria-live="polite">{{ answer }}</h1>
    <button
      class="main-button"
      :disabled="!mayOperate"
      :title="mayOperate ? '' : 'This takes the right operate'"
      @click="adding = !adding"
    >
      Subscribe
    </button>
  </header>
  <Trouble :error="subscriptions.error.value ?? failed" />
  <Subscribe v-if="adding" :channels="channelNames" @done="save" @preview="preview" />
  <section v-if="letter" class="card p-3.5 mb-3.5">
    <p class="flex justify-between mb-2">
      <b>{{ letter.subject }}</b><button class="control" @click="letter = null">Close</button>
    </p>
    <pre class="mono whitespace-pre-wrap max-h-[420px] overflow-y-auto" tabindex="0">{{ letter.text }}</pre>
  </section>

  <section class="card px-3.5 py-1 mb-3.5">
    <table class="w-full">
      <HeadRow
        :columns="[
          { title: 'Subscription' },
          { title: 'Of' },
          { title: 'Devices' },
          { title: 'To', width: '110px' },
          { title: 'When', width: '170px' },
          { title: 'Change', width: '240px', hidden: true },
        ]"
      />
      <tbody>
        <tr
          v-for="s in list"
          :key="s.name"
          class="border-b border-line last:border-0 h-[40px]"
          :class="s.paused && 'text-second'"
        >
          <td>
            <b>{{ s.name }}</b>
          </td>
          <td>{{ said(s) }}</td>
          <td class="mono">{{ s.selector || 'all devices' }}</td>
          <td>{{ s.channel }}</td>
          <td>
            {{ s.paused ? 'paused' : s.digest ? inWords(s.digest) : 'at once'
            }}<span v-if="s.quiet" class="block text-[11.5px] text-second">quiet {{ s.quiet }}</span>
          </td>
          <td class="text-right">
            <span class="flex gap-1.5 justify-end">
              <button class="control" @click="preview(bodyOf(s))">Preview</button>
              <button
                class="control"
                :disabled="!mayOperate"
                @click="put(s.name, { ...bodyOf(s), paused: !s.paused })"
              >
                {{ s.paused ? 'Go on' : 'Pause' }}
              </button>
              <Sure v-if="mayOperate" :what="s.name" @sure="remove(s.name)" />
            </span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="subscriptions.data.value && !list.length" class="py-3 text-second">
      Nobody is told of anything.
    </p>
  </section>
  <div class="grid grid-cols-[1fr_2fr] gap-3.5 items-start">
    <Channels :may-change="mayAdminister" />
    <Deliveries :list="sent.slice(0, 30)" :may-change="mayAdminister" @again="again" />
  </div>
</template>
