<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useQueryClient } from '@tanstack/vue-query'
import { api, type Session } from '../api/call'
import { useDrifted, useOpenFindings } from '../api/audits'
import { useOpenChanges } from '../api/happenings'
import { useDevices, useRounds } from '../api/queries'
import { listen } from '../api/live'
import { onKeys } from './keys'
import { theme, switchTheme } from './theme'
import KeysHelp from './KeysHelp.vue'
import Mark from './Mark.vue'

defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const queries = useQueryClient()

const devices = useDevices(ref(''))
const rounds = useRounds()
const open = useOpenChanges()
const severe = useOpenFindings()
const drifted = useDrifted()
const running = computed(() => rounds.data.value?.items.filter((r) => r.state === 'running').length ?? 0)

const groups = computed(() => [
  {
    title: '',
    items: [
      { to: 'today', text: 'Today', count: '' },
      { to: 'fleet', text: 'Fleet', count: devices.data.value ? String(devices.data.value.length) : '' },
      { to: 'changes', text: 'Changes', count: open.data.value ? `${open.data.value} open` : '' },
      { to: 'search', text: 'Search', count: '' },
      { to: 'compare', text: 'Compare', count: '' },
    ],
  },
  {
    title: 'What should be',
    items: [
      { to: 'drift', text: 'Drift', count: drifted.data.value ? `${drifted.data.value} drifted` : '' },
      { to: 'audit', text: 'Audit', count: severe.data.value ? `${severe.data.value} severe` : '' },
      { to: 'standards', text: 'Standards', count: '' },
    ],
  },
  {
    title: 'Keeping',
    items: [
      { to: 'rounds', text: 'Rounds', count: running.value ? `${running.value} running` : '' },
      { to: 'schedules', text: 'Schedules', count: '' },
      { to: 'windows', text: 'Agreed hours', count: '' },
      { to: 'signals', text: 'Signals', count: '' },
      { to: 'telling', text: 'Subscriptions', count: '' },
      { to: 'groups', text: 'Groups and sites', count: '' },
      { to: 'credentials', text: 'Credentials', count: '' },
      { to: 'add', text: 'Add devices', count: '' },
      { to: 'journal', text: 'Journal', count: '' },
    ],
  },
])
const here = computed(() => String(route.meta['under'] ?? route.name))

const help = ref(false)
onKeys({
  'g t': () => router.push('/today'),
  'g h': () => router.push('/changes'),
  'g d': () => router.push('/drift'),
  'g u': () => router.push('/audit'),
  'g n': () => router.push('/standards'),
  'g s': () => router.push('/schedules'),
  'g a': () => router.push('/add'),
  'g f': () => router.push('/fleet'),
  'g c': () => router.push('/compare'),
  'g q': () => router.push('/search'),
  'g p': () => router.push('/past'),
  'g r': () => router.push('/rounds'),
  'g o': () => router.push('/journal'),
  '/': () => document.querySelector<HTMLElement>('[data-search]')?.focus(),
  '?': () => (help.value = true),
})

let stop = () => {}
onMounted(() => (stop = listen(queries)))
onBeforeUnmount(() => stop())

async function signOut() {
  await api.DELETE('/session')
  queries.clear()
  location.assign('/')
}
</script>

<template>
  <a href="#main" class="sr-only focus:not-sr-only">To the contents</a>
  <div class="flex min-h-screen">
    <nav
      class="w-[184px] shrink-0 border-r border-line sticky top-0 h-screen flex flex-col p-2.5"
      aria-label="Pages"
    >
      <RouterLink to="/today" class="flex items-center gap-2 px-2 pt-2 pb-4">
        <Mark /><b class="text-[15px]">Verge Keep</b>
      </RouterLink>
      <template v-for="g in groups" :key="g.title">
        <h2 v-if="g.title" class="px-2 pt-4 pb-1 text-[11.5px] text-second">{{ g.title }}</h2>
        <RouterLink
          v-for="i in g.items"
          :key="i.to"
          :to="{ name: i.to }"
          class="flex justify-between items-baseline rounded-[5px] px-2 py-[5px] text-second hover:text-ink"
          :class="here === i.to && 'bg-accent-tint !text-accent font-semibold'"
          :aria-current="here === i.to ? 'page' : undefined"
        >
          {{ i.text }}<span class="text-[11.5px] font-normal">{{ i.count }}</span>
        </RouterLink>
      </template>
      <div class="mt-auto px-2 pb-1 flex flex-wrap gap-x-3 gap-y-1 justify-between text-second">
        <span class="text-ink truncate" :title="session.rights.join(', ')">{{ session.account }}</span>
        <button class="hover:text-ink" @click="switchTheme">
          {{ theme === 'dark' ? 'light' : 'dark' }}
        </button>
        <button class="hover:text-ink" title="Keyboard (?)" @click="help = true">keys</button>
        <button class="hover:text-ink" @click="signOut">sign out</button>
      </div>
    </nav>
    <main id="main" class="flex-1 min-w-0 px-6 py-3.5">
      <div class="max-w-[1480px]">
        <RouterView :session="session" />
      </div>
    </main>
  </div>
  <KeysHelp :open="help" @close="help = false" />
</template>
