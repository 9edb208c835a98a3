<script setup lang="ts">
// One rule, or one section of a standard: the devices on which it does not hold.
import { computed } from 'vue'
import type { Finding, Session } from '../../api/call'
import { useFinding } from '../../api/audits'
import { plural } from '../../parts/say'
import { called } from './grid'
import OneFinding from './OneFinding.vue'

const props = defineProps<{ findings: Finding[]; session: Session; unfolded: boolean }>()
const emit = defineEmits<{ unfold: [boolean] }>()
const first = computed(() => props.findings[0]!)
const rule = useFinding(computed(() => (props.unfolded ? first.value.id : 0)))
const devices = computed(() => new Set(props.findings.map((f) => f.device)).size)
const names = computed(() => [...new Set(props.findings.map((f) => f.device))].slice(0, 6).join(', '))
</script>

<template>
  <section class="card mb-2 overflow-hidden" :data-rule="first.name">
    <button
      class="w-full text-left flex gap-3 items-baseline px-3.5 py-2 hover:bg-ground"
      :aria-expanded="unfolded"
      @click="emit('unfold', !unfolded)"
    >
      <span class="text-faint w-3">{{ unfolded ? '▾' : '▸' }}</span>
      <span class="flex-1 min-w-0">
        <b>{{ first.title }}</b>
        <span class="block text-[11.5px] text-second truncate"
          >{{ called(first.document) }} · {{ first.item }} · {{ names
          }}<template v-if="devices > 6"> and {{ devices - 6 }} more</template></span
        >
      </span>
      <span class="text-second">{{ plural(devices, 'device') }}</span>
      <span
        class="tag"
        :class="
          first.severity === 'high'
            ? 'bg-alarm-tint text-alarm'
            : first.severity === 'medium'
              ? 'bg-attention-tint text-attention'
              : 'border border-line text-second'
        "
        >{{ first.severity }}</span
      >
    </button>
    <div v-if="unfolded" class="border-t border-line px-3.5 py-2.5">
      <div v-if="rule.data.value" class="text-second mb-2 max-w-[900px]">
        <p v-if="rule.data.value.rationale">{{ rule.data.value.rationale }}</p>
        <p v-if="rule.data.value.fix" class="mt-1">
          <b class="text-ink">{{ rule.data.value.fixIsCommands ? 'What to type' : 'What to do' }}:</b>
          <template v-if="!rule.data.value.fixIsCommands"> {{ rule.data.value.fix }}</template>
        </p>
        <pre v-if="rule.data.value.fixIsCommands" class="mono bg-ground rounded-[5px] px-2.5 py-1.5 mt-1">{{
          rule.data.value.fix
        }}</pre>
        <p v-for="(list, scheme) in rule.data.value.controls ?? {}" :key="scheme" class="mt-1 text-[11.5px]">
          {{ scheme }}: {{ list.join(', ') }}
        </p>
      </div>
      <OneFinding v-for="f in findings" :key="f.id" :finding="f" :session="session" />
    </div>
  </section>
</template>
