<script setup lang="ts">
// A policy or a standard: its text, and beside it what it finds, or would find.
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { DocumentKind, Session } from '../../api/call'
import { api, ask } from '../../api/call'
import { useDocument, useFindings, useTrial } from '../../api/audits'
import { useAct } from '../../parts/act'
import { plural } from '../../parts/say'
import Trouble from '../../parts/Trouble.vue'
import { starts } from './starts'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const router = useRouter()
const kind = computed(() => (route.query['kind'] === 'standard' ? 'standard' : 'policy') as DocumentKind)
const name = computed(() => String(route.query['name'] ?? ''))
const kept = useDocument(kind, name)
const text = ref('')
watch(
  () => [kept.data.value?.text, name.value, kind.value],
  () => (text.value = name.value ? (kept.data.value?.text ?? '') : starts[kind.value]),
  { immediate: true },
)
const edited = computed(() => !name.value || text.value !== kept.data.value?.text)
// What is typed is tried when the typing pauses.
const typed = ref(text.value)
let timer: number | undefined
watch(text, (t) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => (typed.value = t), 600)
})
const trial = useTrial(kind, typed)
const faulty = computed(() => trial.error.value?.status === 422)
const complaints = computed(() =>
  faulty.value ? trial.error.value!.message.split('\n').filter(Boolean) : [],
)
const { failed, busy, act } = useAct('audits')
async function keep() {
  let as = ''
  const well = await act(async () => {
    as = (
      await ask(
        api.PUT('/documents/{kind}', { params: { path: { kind: kind.value } }, body: { text: text.value } }),
      )
    ).name
  })
  if (well) void router.replace({ query: { kind: kind.value, name: as } })
}
const mayKeep = computed(() => props.session.rights.includes('administer'))
// What it finds now, where nothing is being edited.
const findings = useFindings(
  computed(() => ({ document: `${kind.value}:${name.value}`, limit: 300 })),
  computed(() => name.value !== ''),
)
const found = computed(() => (edited.value ? [] : (findings.data.value?.items ?? [])))
const changes = computed(() => trial.data.value?.changes ?? [])
</script>

<template>
  <header class="flex gap-2 items-start mb-3">
    <h1 class="answer flex-1">
      <template v-if="name && kept.isPending.value">Looking …</template>
      <template v-else-if="complaints.length"
        >{{ plural(complaints.length, 'mistake') }} in the text.</template
      >
      <template v-else-if="trial.data.value">
        {{ name ? `${name} is` : 'It would be' }} for {{ plural(trial.data.value.devices, 'device') }}:
        {{ trial.data.value.pass }} hold, {{ trial.data.value.fail }} do not<template
          v-if="trial.data.value.undecidable"
          >, {{ trial.data.value.undecidable }} cannot be decided</template
        >.
      </template>
      <template v-else>{{ name || `A new ${kind}` }}</template>
    </h1>
    <RouterLink
      v-if="name"
      class="control py-1.5"
      :to="{ name: 'audit', query: { document: `${kind}:${name}` } }"
      >What it found</RouterLink
    >
    <button
      class="main-button"
      :disabled="!mayKeep || !edited || busy || complaints.length > 0"
      :title="mayKeep ? '' : 'This takes the right administer'"
      @click="keep"
    >
      Keep it
    </button>
  </header>
  <Trouble :error="kept.error.value ?? failed ?? (faulty ? null : trial.error.value)" />
  <div class="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-3.5 max-[1100px]:grid-cols-1">
    <label class="block">
      <span class="sr-only">The text of the {{ kind }}</span>
      <textarea
        v-model="text"
        class="card mono w-full p-3 leading-5 h-[calc(100vh-110px)] min-h-[360px] resize-none whitespace-pre"
        spellcheck="false"
        :aria-invalid="complaints.length > 0"
      ></textarea>
    </label>
    <section
      class="card px-3.5 py-3 h-[calc(100vh-110px)] min-h-[360px] overflow-y-auto"
      tabindex="0"
      aria-label="Tried"
      aria-live="polite"
    >
      <h2 class="font-semibold mb-2">{{ edited ? 'If it counted' : 'What it says now' }}</h2>
      <ul v-if="complaints.length" class="text-alarm">
        <li v-for="c in complaints" :key="c" class="mono mb-1.5 whitespace-pre-wrap">{{ c }}</li>
      </ul>
      <template v-else-if="trial.data.value">
        <p class="text-second mb-2">
          {{ trial.data.value.pass }} hold, {{ trial.data.value.fail }} do not,
          {{ trial.data.value.undecidable }} cannot be decided, {{ trial.data.value.notApplicable }} do not
          apply.
        </p>
        <p
          v-for="w in trial.data.value.warnings"
          :key="w"
          class="bg-attention-tint text-attention rounded-[5px] px-2 py-1 mb-2"
        >
          {{ w }}
        </p>
        <p v-if="edited && !changes.length" class="text-second">No state would be another one than now.</p>
        <p v-else-if="!edited && !found.length" class="text-second">Nothing is wrong.</p>
        <ul>
          <li v-for="f in found" :key="f.id" class="border-t border-line py-1.5">
            <RouterLink
              class="font-semibold hover:underline"
              :to="{ name: 'device', query: { name: f.device, line: f.proofs[0]?.line } }"
              >{{ f.device }}</RouterLink
            >
            {{ f.part }} · {{ f.item }}
            <span v-if="f.state === 'waived'" class="tag border border-line text-second">waived</span>
            <span class="block text-second">{{ f.why }}</span>
          </li>
        </ul>
        <ul>
          <li v-for="(c, i) in changes.slice(0, 200)" :key="i" class="border-t border-line py-1.5">
            <RouterLink
              class="font-semibold hover:underline"
              :to="{ name: 'device', query: { name: c.device } }"
              >{{ c.device }}</RouterLink
            >
            {{ c.part }} · {{ c.item }}
            <span
              class="tag"
              :class="
                c.after === 'fail' ? 'bg-attention-tint text-attention' : 'border border-line text-second'
              "
              >{{ c.before ?? 'nothing' }} → {{ c.after ?? 'nothing' }}</span
            >
            <span class="block text-second">{{ c.why }}</span>
          </li>
        </ul>
        <p v-if="changes.length > 200 || trial.data.value.more" class="text-second">
          and {{ changes.length - 200 + trial.data.value.more }} more
        </p>
      </template>
      <p v-else class="text-second">Looking …</p>
    </section>
  </div>
</template>
