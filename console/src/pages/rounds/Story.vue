<script setup lang="ts">
// A visit, step by step.
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, type Session } from '../../api/call'
import { useVisit } from '../../api/queries'
import { useAct } from '../../parts/act'
import { duration } from '../../parts/say'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ session: Session }>()
const route = useRoute()
const id = computed(() => Number(route.params['id']))
const device = computed(() => String(route.query['device'] ?? ''))
const query = useVisit(id, device)
const visit = computed(() => query.data.value?.visit)
const maySee = computed(() => props.session.rights.includes('see-secrets'))
const said = ref<string | null>(null)
const { failed, act } = useAct()
const show = () =>
  act(async () => {
    said.value = await ask(
      api.GET('/rounds/{id}/session', {
        params: { path: { id: id.value }, query: { device: device.value } },
        parseAs: 'text',
      }),
    )
  })
const how: Record<string, string> = {
  new: 'went well and brought something new',
  unchanged: 'went well; nothing had changed',
  failed: 'failed',
  'passed-over': 'was passed over',
  waiting: 'has not come yet',
}
</script>

<template>
  <Trouble :error="query.error.value ?? failed" />
  <template v-if="visit && query.data.value">
    <h1 class="answer mb-1">
      The visit to
      <RouterLink class="underline" :to="{ name: 'device', query: { name: visit.device } }">{{
        visit.device
      }}</RouterLink>
      {{ how[visit.outcome] }}<template v-if="visit.tookMs"> after {{ duration(visit.tookMs) }}</template
      >.
    </h1>
    <p class="text-second mb-3">
      <RouterLink class="underline" :to="{ name: 'round', params: { id } }">Round {{ id }}</RouterLink
      >, <Moment :at="visit.started" /> · {{ visit.platform
      }}<template v-if="visit.site"> at {{ visit.site }}</template
      ><template v-if="visit.tries"> · {{ visit.tries }} tries; the last is told here</template>
    </p>
    <div
      v-if="visit.what"
      class="rounded-[7px] px-3.5 py-2 mb-3.5"
      :class="visit.outcome === 'failed' ? 'bg-alarm-tint text-alarm' : 'bg-attention-tint text-attention'"
      role="status"
    >
      {{ visit.what }} <b>{{ visit.advice }}</b>
    </div>
    <section
      v-if="query.data.value.lastLines.length || query.data.value.session"
      class="card px-3.5 py-2.5 mb-3.5"
    >
      <div class="flex items-baseline gap-3">
        <h2 class="font-semibold flex-1">
          {{ said === null ? 'What it said last' : 'All that was said' }}
          <span v-if="said === null" class="font-normal text-second">· what may be secret is hidden</span>
        </h2>
        <button
          v-if="said === null && query.data.value.session"
          class="control"
          :disabled="!maySee"
          :title="maySee ? '' : 'This takes the right see-secrets'"
          @click="show"
        >
          Show all that was said
        </button>
      </div>
      <pre class="mono mt-1.5 overflow-x-auto" tabindex="0" role="region" aria-label="What it said">{{
        said ?? query.data.value.lastLines.join('\n')
      }}</pre>
    </section>
    <section class="card px-3.5 py-2.5">
      <h2 class="font-semibold mb-1">Step by step</h2>
      <ol v-if="query.data.value.steps.length">
        <li
          v-for="(s, i) in query.data.value.steps"
          :key="i"
          class="flex gap-4 border-b border-line last:border-0 py-[3px]"
        >
          <span class="w-[80px] text-right text-second tabular-nums shrink-0">{{ duration(s.afterMs) }}</span>
          <span class="break-words min-w-0">{{ s.what }}</span>
        </li>
      </ol>
      <p v-else class="text-second">
        The steps of a good visit are kept where its round was started to record:
        <span class="mono">vergekeep round start name={{ visit.device }} --record</span>
      </p>
    </section>
  </template>
</template>
