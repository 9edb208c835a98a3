<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type SavedSearch, type Session } from '../../api/call'
import { useSearch, useSearches } from '../../api/queries'
import { useAct } from '../../parts/act'
import Choice from '../../parts/Choice.vue'
import Field from '../../parts/Field.vue'
import Trouble from '../../parts/Trouble.vue'
import Hits from './Hits.vue'
import Tallies from './Tallies.vue'
import { answerOf, askedIn, fromSaved, toQuery, toQuestion } from './question'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const asked = computed(() => askedIn(route.query))
const typed = ref(asked.value)
watch(asked, (a) => (typed.value = a))
const kind = ref<'text' | 'section'>(asked.value.in ? 'section' : 'text')

const question = computed(() => toQuestion(asked.value))
const search = useSearch(question)
const found = computed(() => (question.value ? search.data.value : undefined))
const saved = useSearches()

function submit() {
  const a = { ...typed.value }
  if (kind.value === 'text') a.in = ''
  void router.push({ query: toQuery(a) })
}
function open(s: SavedSearch) {
  const a = fromSaved(s)
  kind.value = a.in ? 'section' : 'text'
  void router.push({ query: toQuery(a) })
}

const name = ref('')
const { failed, act } = useAct('searches')
async function save() {
  if (!question.value || !name.value.trim()) return
  const body = question.value
  const path = { name: name.value.trim() }
  if (await act(() => ask(api.PUT('/searches/{name}', { params: { path }, body })))) name.value = ''
}
async function forget(s: SavedSearch) {
  await act(() => ask(api.DELETE('/searches/{name}', { params: { path: { name: s.name } } })))
}
const mayOperate = computed(() => props.session.rights.includes('operate'))
</script>

<template>
  <form class="mb-3" role="search" @submit.prevent="submit">
    <div class="flex gap-2.5 items-end flex-wrap">
      <Choice v-model="kind" label="Look for" :options="{ text: 'lines', section: 'sections' }" />
      <template v-if="kind === 'text'">
        <label class="flex-1 min-w-[240px] relative text-second text-[11.5px]">
          Text
          <input
            v-model="typed.text"
            data-search
            class="control block w-full h-[34px] mono"
            placeholder="192.0.2.66, or an expression such as ^ *server 192\\.0"
            spellcheck="false"
            maxlength="1000"
          />
          <kbd class="key absolute right-2 bottom-[7px]" aria-hidden="true">/</kbd>
        </label>
      </template>
      <template v-else>
        <Field v-model="typed.in" label="Section" placeholder="interface, or interface wan*" wide />
        <Field v-model="typed.have" label="that has" placeholder="lan access *" />
        <Field v-model="typed.lack" label="and lacks" placeholder="description **" />
      </template>
      <Choice
        v-model="typed.scope"
        label="In"
        :options="{ now: 'the newest', at: 'those of a time', history: 'all there ever were' }"
      />
      <Field v-if="typed.scope === 'at'" v-model="typed.at" label="Time" placeholder="9d, 2026-11-20T18:00" />
      <button class="main-button h-[34px]">Search</button>
    </div>
    <div class="flex gap-4 items-center mt-2 flex-wrap text-second">
      <label class="flex gap-2 items-center">
        Devices
        <input
          v-model="typed.selector"
          class="control w-[260px]"
          placeholder="all; or site=Northgate role=access"
          spellcheck="false"
        />
      </label>
      <template v-if="kind === 'text'">
        <label class="flex gap-1.5"><input v-model="typed.regexp" type="checkbox" /> expression</label>
        <label class="flex gap-1.5"><input v-model="typed.anyCase" type="checkbox" /> any case</label>
      </template>
      <label class="flex gap-1.5"
        ><input v-model="typed.without" type="checkbox" /> who does <b class="font-semibold">not</b> have
        it</label
      >
    </div>
  </form>

  <h1 class="answer mb-3" aria-live="polite">
    <template v-if="!question">Search the configurations of all devices.</template>
    <template v-else-if="search.error.value">It cannot be searched for.</template>
    <template v-else-if="!found">Searching …</template>
    <template v-else>{{ answerOf(found, asked) }}</template>
  </h1>
  <Trouble :error="search.error.value ?? failed" />

  <div v-if="!question" class="card p-5 text-second">
    For example a server's address, to see who still uses it; or the sections "interface" that lack
    <code class="mono text-ink">description **</code>. An address such as this page's can be sent to a
    colleague.
  </div>
  <div v-if="found && !search.error.value" class="flex gap-3.5 items-start">
    <Tallies :found="found" :without="asked.without" />
    <section class="card flex-1 min-w-0">
      <div class="flex items-center gap-2 px-3.5 py-2 border-b border-line flex-wrap">
        <span class="text-second">
          <template v-if="!found.complete">There is more; narrow the search. </template>
          <template v-if="found.masked">Secrets were not searched.</template>
        </span>
        <RouterLink
          v-if="found.selector"
          class="control ml-auto"
          :to="{ name: 'fleet', query: { selector: found.selector } }"
          >Take the devices as a selector</RouterLink
        >
        <form v-if="mayOperate" class="flex gap-1.5" @submit.prevent="save">
          <input
            v-model="name"
            class="control w-[150px]"
            aria-label="Name to save it as"
            placeholder="name to save it"
          />
          <button class="control" :disabled="!name.trim()">Save</button>
        </form>
      </div>
      <ul v-if="asked.without" class="px-3.5 py-2 columns-3">
        <li v-for="n in found.without" :key="n">
          <RouterLink class="hover:underline" :to="{ name: 'device', query: { name: n } }">{{
            n
          }}</RouterLink>
        </li>
      </ul>
      <Hits v-else :hits="found.hits" />
    </section>
  </div>

  <section v-if="saved.data.value?.length" class="card mt-3.5 px-3.5 py-2">
    <h2 class="font-semibold py-1">Saved searches</h2>
    <p
      v-for="s in saved.data.value"
      :key="s.name"
      class="flex gap-3 h-[33px] items-center border-t border-line"
    >
      <button class="font-semibold hover:underline" @click="open(s)">{{ s.name }}</button>
      <code class="mono text-second truncate">{{ s.question.text ?? s.question.in }}</code>
      <span class="ml-auto text-second">search={{ s.name }} · {{ s.account }}</span>
      <button v-if="mayOperate" class="control" @click="forget(s)">Forget</button>
    </p>
  </section>
</template>
