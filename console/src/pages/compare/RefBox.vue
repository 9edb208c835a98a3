<script setup lang="ts">
// A box for a ref: typing completes devices, and then the points of one.
import { computed, ref, watch } from 'vue'
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { useDevices, useRevisions } from '../../api/queries'
import { refOf, when } from '../../parts/say'

const props = defineProps<{ label: string; value: string; said?: string | undefined; search?: boolean }>()
const emit = defineEmits<{ pick: [string] }>()

const typed = ref(props.value)
watch(
  () => props.value,
  (v) => (typed.value = v),
)
const devices = useDevices(ref(''))
const device = computed(() => typed.value.split(/[:@]/)[0]!.replaceAll('"', ''))
const known = computed(() => devices.data.value?.some((d) => d.name === device.value) ?? false)
const point = computed(() => typed.value.includes('@') && known.value)
const name = computed(() => (point.value ? device.value : ''))
const datastore = computed(() => /:(\w+)/.exec(typed.value)?.[1] ?? 'running')
const part = computed(() => /:\w+\/([^@]+)/.exec(typed.value)?.[1] ?? '')
const revisions = useRevisions(name, datastore, part)

const offers = computed(() => {
  if (point.value) {
    return [
      { ref: typed.value.split('@')[0] + '@live', said: 'captured now' },
      ...(revisions.data.value ?? []).slice(0, 30).map((r) => ({
        ref: refOf(device.value, datastore.value, part.value, r.number),
        said: when(r.firstSeen),
      })),
    ]
  }
  const wanted = typed.value.toLowerCase()
  return (devices.data.value ?? [])
    .filter((d) => d.name.toLowerCase().includes(wanted))
    .slice(0, 30)
    .map((d) => ({ ref: refOf(d.name), said: d.site }))
})
function pick(v: string | null) {
  if (v) emit('pick', v)
}
</script>

<template>
  <Combobox as="div" class="relative flex-1" :model-value="value" nullable @update:model-value="pick">
    <ComboboxInput
      :aria-label="`${label} ref`"
      :data-search="search ? '' : undefined"
      class="control w-full py-1.5 mono"
      :display-value="() => typed"
      spellcheck="false"
      placeholder="device, device@12, device:startup, device@2026-11-20"
      @change="typed = $event.target.value"
      @keydown.enter="pick(typed.trim())"
    />
    <span v-if="said" class="absolute right-3 top-2 text-[11.5px] text-second pointer-events-none">{{
      when(said)
    }}</span>
    <ComboboxOptions
      v-if="offers.length"
      class="card absolute z-10 mt-1 w-full max-h-72 overflow-auto p-1 shadow-lg"
    >
      <ComboboxOption v-for="o in offers" :key="o.ref" v-slot="{ active }" :value="o.ref" as="template">
        <li
          class="flex justify-between rounded-[5px] px-2 py-1 cursor-pointer"
          :class="active && 'bg-accent-tint text-accent'"
        >
          <span class="mono">{{ o.ref }}</span><span class="text-second text-[11.5px]">{{ o.said }}</span>
        </li>
      </ComboboxOption>
    </ComboboxOptions>
  </Combobox>
</template>
