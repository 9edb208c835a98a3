<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Session } from '../../api/call'
import { useDevices, useStartRound } from '../../api/queries'
import { plural } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import FleetTable from './FleetTable.vue'
import { columns, type Field } from './fields'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()

const asText = (v: unknown) => (typeof v === 'string' ? v : '')
const selector = computed(() => asText(route.query['selector']))
const group = computed(() => asText(route.query['group']) as Field | '')
const sort = computed(() => asText(route.query['sort']) || 'wrong')
const typed = ref(selector.value)
watch(selector, (s) => (typed.value = s))

const devices = useDevices(selector)
const all = computed(() => devices.data.value ?? [])
const covered = computed(() => all.value.filter((d) => d.freshness === 'fresh').length)
const wrong = computed(() => all.value.filter((d) => d.problem).length)
const late = computed(() => all.value.length - covered.value)
const changed = computed(() => {
  const yesterday = Date.now() - 86_400_000
  return all.value.filter((d) => d.lastChange && new Date(d.lastChange).getTime() > yesterday).length
})

function go(query: Record<string, string>) {
  const next = { ...route.query, ...query }
  for (const k of Object.keys(next)) if (!next[k]) delete next[k]
  void router.replace({ query: next })
}

const round = useStartRound()
async function capture() {
  const r = await round.mutateAsync(selector.value)
  await router.push(`/rounds/${r.id}`)
}
const mayOperate = computed(() => props.session.rights.includes('operate'))
</script>

<template>
  <form class="flex gap-2.5 mb-3" role="search" @submit.prevent="go({ selector: typed.trim() })">
    <label class="flex-1 relative">
      <span class="sr-only">Selector</span>
      <input
        v-model="typed"
        data-search
        class="control w-full py-1.5"
        placeholder="Pick devices: site=Northgate role=access, name=ng-*, not freshness=fresh"
        spellcheck="false"
        @keydown.escape="go({ selector: '' })"
      />
      <kbd class="key absolute right-2 top-1.5" aria-hidden="true">/</kbd>
    </label>
    <RouterLink class="control py-1.5" :to="{ name: 'past', query: selector ? { selector } : {} }"
      >As of a time …</RouterLink
    >
    <label>
      <span class="sr-only">Group by</span>
      <select
        class="control py-1.5 h-full"
        :value="group"
        @change="go({ group: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Not grouped</option>
        <option v-for="c in columns.filter((c) => c.groups)" :key="c.field" :value="c.field">
          By {{ c.title.toLowerCase() }}
        </option>
      </select>
    </label>
    <button
      type="button"
      class="main-button"
      :disabled="!mayOperate || !all.length || round.isPending.value"
      :title="mayOperate ? '' : 'This takes the right operate'"
      @click="capture"
    >
      Capture {{ selector ? 'these' : 'all' }} now
    </button>
  </form>

  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="devices.isPending.value">Looking …</template>
    <template v-else-if="devices.error.value">The fleet cannot be shown.</template>
    <template v-else-if="all.length">
      {{ covered.toLocaleString() }} of {{ plural(all.length, 'device') }}
      {{ covered === 1 ? 'has' : 'have' }} a fresh capture.
      <template v-if="late || wrong">
        <a
          v-if="late"
          href="?selector=not+freshness%3Dfresh"
          @click.prevent="go({ selector: 'not freshness=fresh' })"
          >{{ late.toLocaleString() }} {{ late === 1 ? 'has' : 'have' }} not</a
        ><template v-if="wrong">
          {{ late ? ', and' : '' }} {{ wrong.toLocaleString() }} failed at the last visit</template
        >.
      </template>
      {{ changed.toLocaleString() }} changed since this time yesterday.
    </template>
    <template v-else-if="selector">No device matches this selector.</template>
    <template v-else>There are no devices yet.</template>
  </h1>

  <Trouble :error="devices.error.value" :retry="() => devices.refetch()" />
  <div v-if="!devices.isPending.value && !devices.error.value && !all.length" class="card p-5 text-second">
    <template v-if="selector">
      Fields are name, site, role, platform, label, group, address, state, freshness, problem, unsaved, model,
      serial and version.
      <button class="control ml-2" @click="go({ selector: '' })">Show all</button>
    </template>
    <template v-else>
      <RouterLink class="underline" to="/add">Add or import devices.</RouterLink>
    </template>
  </div>
  <FleetTable
    v-if="all.length && !devices.error.value"
    :devices="all"
    :group="group"
    :sort="sort"
    @sort="(s) => go({ sort: s })"
  />
</template>
