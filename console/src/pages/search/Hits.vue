<script setup lang="ts">
// Hits under their configuration and section, with since when each stands.
import { computed } from 'vue'
import type { Hit } from '../../api/call'
import { exact, when } from '../../parts/say'
import { pieces } from '../compare/rows'
import { shelves } from './question'

const props = defineProps<{ hits: Hit[] }>()
const list = computed(() => shelves(props.hits))
function place(h: Hit) {
  const m = /^"?([^":@]+)"?(?::([^@]+))?@(\d+)$/.exec(h.ref)
  return {
    name: 'device',
    query: {
      name: h.device,
      ...(m?.[2] ? { kind: m[2] } : {}),
      revision: m?.[3] ?? '',
      line: String(h.line || ''),
    },
  }
}
const path = (h: Hit) => h.path.join('  ›  ')
</script>

<template>
  <div class="py-1.5">
    <section v-for="s in list" :key="s.ref" class="px-3.5 py-1.5">
      <h2 class="font-semibold">
        <RouterLink class="hover:underline" :to="place(s.hits[0]!)">{{ s.ref }}</RouterLink>
      </h2>
      <template v-for="(h, i) in s.hits" :key="i">
        <p
          v-if="path(h) && (i === 0 || path(h) !== path(s.hits[i - 1]!))"
          class="mono text-second pl-[5ch] truncate"
        >
          {{ path(h) }}
        </p>
        <div class="mono flex gap-3 whitespace-pre leading-5 hover:bg-ground">
          <span class="w-[4ch] text-right text-faint shrink-0">{{ h.line || '' }}</span>
          <RouterLink class="truncate flex-1 min-w-0" :to="place(h)"
            ><template v-for="(p, k) in pieces(h.text, h.spans)" :key="k"
              ><mark v-if="p.strong" class="bg-attention-tint text-attention rounded-[3px]">{{ p.text }}</mark
              ><template v-else>{{ p.text }}</template></template
            ></RouterLink
          >
          <span
            v-if="h.since"
            class="font-sans text-[11.5px] text-second shrink-0"
            :title="exact(h.sinceTime)"
          >
            since @{{ h.since }}, {{ when(h.sinceTime)
            }}<template v-if="h.last"> to @{{ h.last }}, {{ when(h.lastTime) }}</template>
          </span>
        </div>
      </template>
    </section>
  </div>
</template>
