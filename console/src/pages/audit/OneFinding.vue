<script setup lang="ts">
// One finding: the lines that prove it, since when, and what people made of it.
import { computed, ref } from 'vue'
import type { Finding, Session } from '../../api/call'
import { api, ask } from '../../api/call'
import { useAct } from '../../parts/act'
import { when } from '../../parts/say'
import Field from '../../parts/Field.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ finding: Finding; session: Session }>()
const { failed, act } = useAct('audits')
const most = 8
const all = ref(false)
const shown = computed(() => (all.value ? props.finding.proofs : props.finding.proofs.slice(0, most)))
const waiving = ref(false)
const month = new Date(Date.now() + 30 * 86_400_000).toLocaleDateString('sv')
const form = ref({ reason: '', approved: props.session.account, until: month })
const mayWaive = computed(() => props.session.rights.includes('administer'))
async function waive() {
  const well = await act(() =>
    ask(
      api.POST('/waivers', {
        body: {
          finding: props.finding.id,
          reason: form.value.reason,
          approved: form.value.approved,
          until: new Date(`${form.value.until}T23:59:00`).toISOString(),
        },
      }),
    ),
  )
  if (well) waiving.value = false
}
const mine = () =>
  act(() =>
    ask(api.POST('/findings/note', { body: { ids: [props.finding.id], owner: props.session.account } })),
  )
const link = (line?: number) => ({
  name: 'device',
  query: {
    name: props.finding.device,
    ...(props.finding.part ? { kind: `running/${props.finding.part}` } : {}),
    ...(line ? { line: String(line) } : {}),
  },
})
</script>

<template>
  <article class="border-t border-line first:border-0 py-2" :data-finding="finding.id">
    <div class="flex gap-3 items-baseline flex-wrap">
      <RouterLink class="font-semibold hover:underline" :to="link(finding.proofs[0]?.line)"
        >{{ finding.device }}<template v-if="finding.part"> {{ finding.part }}</template></RouterLink
      >
      <span class="text-second">{{ finding.site }}</span>
      <span class="text-second"
        >since {{ when(finding.opened)
        }}<template v-if="finding.times > 1">, for the {{ finding.times }}. time</template
        ><template v-if="finding.openedBy">
          by
          <RouterLink
            class="underline"
            :to="{ name: 'changes', query: { from: '400d', change: finding.openedBy } }"
            >change #{{ finding.openedBy }}</RouterLink
          ></template
        ></span
      >
      <span v-if="finding.owner" class="text-second">{{ finding.owner }} is on it</span>
      <span v-if="finding.reference" class="text-second">{{ finding.reference }}</span>
      <span v-if="finding.waiver" class="tag bg-attention-tint text-attention"
        >waived until {{ when(finding.waiver.until) }}</span
      >
      <span v-if="finding.state === 'closed'" class="tag border border-line text-second"
        >closed {{ when(finding.closed) }}</span
      >
      <span v-if="finding.state === 'open'" class="ml-auto flex gap-1.5">
        <button v-if="!finding.owner && session.rights.includes('operate')" class="control" @click="mine">
          I am on it
        </button>
        <button v-if="mayWaive" class="control" @click="waiving = !waiving">Waive …</button>
      </span>
    </div>
    <p v-if="finding.waiver" class="text-second">
      {{ finding.waiver.reason }} ({{ finding.waiver.approved }})
    </p>
    <form v-if="waiving" class="flex flex-wrap gap-2 items-end my-2" @submit.prevent="waive">
      <Field v-model="form.reason" label="Why" required wide />
      <Field v-model="form.approved" label="Approved by" required />
      <Field v-model="form.until" label="Until" type="date" required />
      <button class="main-button">Waive it</button>
    </form>
    <Trouble :error="failed" />
    <ul class="mt-1">
      <li v-for="(p, i) in shown" :key="i" class="flex gap-2 items-baseline leading-5">
        <RouterLink
          v-if="p.line"
          class="text-second underline shrink-0 w-[64px] text-[11.5px]"
          :to="link(p.line)"
          >line {{ p.line }}</RouterLink
        ><span v-else class="shrink-0 w-[64px]"></span>
        <span class="min-w-0">
          <span v-if="p.path.length" class="text-faint mono">{{ p.path.slice(-2).join(' › ') }} › </span
          ><code v-if="p.text" class="mono">{{ p.text }}</code>
          <span class="text-second whitespace-pre-wrap" :class="p.text && 'ml-2'"
            ><template v-if="p.text">— </template>{{ p.says }}</span
          >
        </span>
      </li>
    </ul>
    <button v-if="finding.proofs.length > most && !all" class="underline text-second" @click="all = true">
      and {{ finding.proofs.length - most + finding.more }} more
    </button>
  </article>
</template>
