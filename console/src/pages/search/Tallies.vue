<script setup lang="ts">
// How many hits each device and each section has.
import { computed, ref } from 'vue'
import type { Found } from '../../api/call'

const props = defineProps<{ found: Found; without: boolean }>()
const most = 12
const all = ref(false)
const devices = computed(() =>
  [...props.found.devices].sort((a, b) => b.count - a.count).slice(0, all.value ? undefined : most),
)
</script>

<template>
  <aside class="card w-[230px] shrink-0 p-3.5 sticky top-3.5 max-h-[calc(100vh-28px)] overflow-y-auto">
    <h2 class="font-semibold mb-1">Devices that have it</h2>
    <p v-for="d in devices" :key="d.device" class="flex justify-between gap-2">
      <RouterLink class="truncate hover:underline" :to="{ name: 'device', query: { name: d.device } }">{{
        d.device
      }}</RouterLink>
      <span class="mono text-second">{{ d.count.toLocaleString() }}</span>
    </p>
    <p v-if="!found.devices.length" class="text-second">none</p>
    <button v-if="found.devices.length > most" class="control mt-1" @click="all = !all">
      {{ all ? 'Fewer' : `All ${found.devices.length}` }}
    </button>
    <template v-if="found.sections.length">
      <h2 class="font-semibold mt-3 mb-1">Sections</h2>
      <p
        v-for="s in found.sections.slice(0, most)"
        :key="s.path.join(' > ')"
        class="flex justify-between gap-2"
      >
        <span class="mono truncate" :title="s.path.join(' › ')">{{ s.path.at(-1) ?? '(top)' }}</span>
        <span class="mono text-second">{{ s.count.toLocaleString() }}</span>
      </p>
    </template>
    <p v-if="!without" class="text-second text-[11.5px] mt-3">
      {{ found.without.length.toLocaleString() }} without it
    </p>
  </aside>
</template>
