<script setup lang="ts">
// A change folded out: what is known of it, what differs, and what to say of it.
import { computed, ref } from 'vue'
import { api, ask, type Change, type Session } from '../../api/call'
import { useComparison } from '../../api/queries'
import { exact, since } from '../../parts/say'
import { useAct } from '../../parts/act'
import Field from '../../parts/Field.vue'
import Trouble from '../../parts/Trouble.vue'
import Toggle from '../../parts/Toggle.vue'
import Rows from '../compare/Rows.vue'

const props = defineProps<{ change: Change; session: Session }>()
const mayJudge = computed(() => props.session.rights.includes('operate'))
const { failed, busy, act } = useAct('changes', 'change-overview')

// What was saved as well differs in the same way: the running one is shown first.
const texts = computed(() =>
  [...props.change.texts].filter((t) => t.before).sort((a, b) => a.datastore.localeCompare(b.datastore)),
)
const shown = ref(0)
const text = computed(() => texts.value[shown.value] ?? texts.value[0])
const comparison = useComparison(
  computed(() => ({ left: text.value?.before ?? '', right: text.value?.ref ?? '', context: 1 })),
)

const asked = ref<'authorised' | 'unauthorised' | ''>('')
const reference = ref('')
const said = ref('')
async function judge(verdict: 'open' | 'authorised' | 'unauthorised') {
  const well = await act(() =>
    ask(
      api.POST('/changes/verdicts', {
        body: {
          ids: [props.change.id],
          verdict,
          ...(verdict === 'authorised' ? { reference: reference.value } : {}),
          ...(said.value && verdict !== 'open' ? { remark: said.value } : {}),
        },
      }),
    ),
  )
  if (well) asked.value = ''
}
const take = (on: boolean) =>
  act(() => ask(api.POST('/changes/taking', { body: { ids: [props.change.id], on } })))

const facts = computed(() => {
  const c = props.change
  const out: [string, string][] = []
  if (c.first) {
    const one = c.first === c.last
    out.push([
      'happened',
      exact(c.first) +
        (one ? '' : ` to ${exact(c.last)}`) +
        `, by ${c.signals} signal${c.signals === 1 ? '' : 's'}`,
    ])
  } else out.push(['happened', `between ${exact(c.since)} and ${exact(c.found)}; no signal tells more`])
  out.push(['by', c.accounts.join(', ') || 'nobody knows: no message of the device says so'])
  if (c.sources.length) out.push(['from', c.sources.join(', ')])
  if (c.methods.length) out.push(['over', c.methods.join(', ')])
  const hours = {
    inside: `inside ${c.window}`,
    outside: 'outside agreed hours',
    perhaps: `perhaps outside ${c.window}: nobody knows when it was`,
    freeze: `in the freeze ${c.window}`,
    none: 'none are agreed for this device',
  }[c.place]
  out.push(['agreed hours', hours])
  if (c.suspect) out.push(['suspect', c.suspect])
  if (c.judged)
    out.push([
      'verdict',
      `${c.verdict}${c.reference ? `, ${c.reference}` : ''}, by ${c.judge}${c.rule ? ` (rule ${c.rule})` : ''}, ${exact(c.judged)}`,
    ])
  if (c.remark) out.push(['remark', c.remark])
  return out
})
</script>

<template>
  <div class="border-t border-line bg-ground/40 px-3.5 py-3">
    <Trouble :error="failed" />
    <div class="flex gap-6 items-start flex-wrap">
      <dl class="grid grid-cols-[110px_1fr] gap-y-0.5 flex-1 min-w-[420px]">
        <template v-for="[name, value] in facts" :key="name">
          <dt class="text-second">{{ name }}</dt>
          <dd
            :class="
              name === 'agreed hours' &&
              (change.place === 'outside' || change.place === 'freeze') &&
              'text-alarm font-semibold'
            "
          >
            {{ value }}
          </dd>
        </template>
        <template v-if="change.undoes">
          <dt class="text-second">undoes</dt>
          <dd>
            <RouterLink class="underline" :to="{ query: { change: change.undoes } }"
              >change #{{ change.undoes }}</RouterLink
            >
          </dd>
        </template>
      </dl>
      <div class="w-[380px]">
        <p v-if="change.taker" class="mb-2">
          <b>{{ change.taker }}</b> is on it, since {{ since(change.taken!) }}.
        </p>
        <div class="flex flex-wrap gap-2" role="group" aria-label="Verdict">
          <template v-if="change.verdict === 'open'">
            <button
              class="control"
              :disabled="!mayJudge || busy"
              @click="asked = asked === 'authorised' ? '' : 'authorised'"
            >
              It was authorised …
            </button>
            <button
              class="control"
              :disabled="!mayJudge || busy"
              @click="asked = asked === 'unauthorised' ? '' : 'unauthorised'"
            >
              It was not …
            </button>
            <button
              class="control"
              :disabled="!mayJudge || busy"
              @click="take(change.taker !== session.account)"
            >
              {{ change.taker === session.account ? 'I am not on it' : 'I am on it' }}
            </button>
          </template>
          <button v-else class="control" :disabled="!mayJudge || busy" @click="judge('open')">
            Take the verdict back
          </button>
        </div>
        <p v-if="!mayJudge" class="text-[11.5px] text-second mt-1">A verdict takes the right operate.</p>
        <form v-if="asked" class="mt-2 flex flex-wrap gap-2 items-end" @submit.prevent="judge(asked)">
          <Field
            v-if="asked === 'authorised'"
            v-model="reference"
            label="By what: a ticket, a work order, a name"
            required
            wide
          />
          <Field v-model="said" label="Remark" wide />
          <button class="main-button">{{ asked === 'authorised' ? 'Authorised' : 'Not authorised' }}</button>
        </form>
      </div>
    </div>
    <div v-if="texts.length > 1" class="flex gap-2 mt-3" role="tablist">
      <Toggle
        v-for="(t, i) in texts"
        :key="t.ref"
        role="tab"
        :on="i === shown"
        :aria-selected="i === shown"
        @click="shown = i"
      >
        {{ t.datastore }}{{ t.part ? `/${t.part}` : '' }}
      </Toggle>
    </div>
    <p v-if="text" class="flex gap-3 mt-3 mb-1 text-[11.5px] text-second">
      <span class="mono">{{ text.before }}</span> against <span class="mono">{{ text.ref }}</span>
      <RouterLink
        class="underline ml-auto"
        :to="{ name: 'compare', query: { left: text.before, right: text.ref } }"
        >Compare in full</RouterLink
      >
    </p>
    <Trouble :error="comparison.error.value" />
    <div v-if="comparison.data.value && text" class="card">
      <Rows :rows="comparison.data.value.rows" mode="side" :current="undefined" />
    </div>
    <p v-else-if="!text" class="text-second mt-2">It is all new: there was nothing before.</p>
  </div>
</template>
