<script setup lang="ts">
// What applies to a device, and what of it does not hold.
import { computed } from 'vue'
import type { Finding } from '../../api/call'
import { useResults } from '../../api/audits'
import { plural, when } from '../../parts/say'
import { called } from '../audit/grid'

const props = defineProps<{ name: string; findings: Finding[] }>()
const results = useResults(computed(() => props.name))
const rows = computed(() =>
  (results.data.value ?? []).map((r) => ({
    ...r,
    pass: r.items.filter((i) => i.outcome === 'pass').length,
    fail: r.items.filter((i) => i.outcome === 'fail').map((i) => i.item),
    open: r.items.filter((i) => i.outcome === 'undecidable').length,
  })),
)
const document = (d: string) => {
  const [kind, name] = d.split(':')
  return kind === 'baseline' ? { name: 'drift' } : { name: 'document', query: { kind, name } }
}
const found = (d: string) => ({ name: 'audit', query: { document: d, selector: `name="${props.name}"` } })
const title = (d: string, item: string) =>
  props.findings.find((f) => f.document === d && f.item === item)?.title ?? item
</script>

<template>
  <section v-if="rows.length" class="card px-3.5 py-2.5 mt-3.5">
    <h2 class="font-semibold mb-1">What should be</h2>
    <table class="w-full">
      <tbody>
        <tr
          v-for="r in rows"
          :key="r.document + r.part"
          class="border-t border-line first:border-0 align-top"
        >
          <td class="py-1.5 pr-3 w-[210px]">
            <RouterLink class="underline" :to="document(r.document)">{{ called(r.document) }}</RouterLink>
            <span v-if="r.part" class="text-second"> {{ r.part }}</span>
          </td>
          <td class="py-1.5 pr-3">
            <template v-if="r.fail.length">
              <RouterLink
                v-for="item in r.fail"
                :key="item"
                class="block underline"
                :to="found(r.document)"
                >{{ title(r.document, item) }}</RouterLink
              >
            </template>
            <span v-else class="text-second">{{
              r.open ? `${plural(r.open, 'item')} cannot be decided` : 'holds'
            }}</span>
          </td>
          <td class="py-1.5 text-second text-right whitespace-nowrap">
            {{ r.pass }} of {{ r.pass + r.fail.length + r.open }} hold<template v-if="r.lines"
              >, {{ r.agreed ?? 0 }} of {{ r.lines }} lines agree</template
            >, so since {{ when(r.since) }}
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
