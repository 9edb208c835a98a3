<script setup lang="ts">
// What can be taken away of a comparison: documents, and its address.
import { ref } from 'vue'
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { zone, type ComparisonQuery } from '../../api/call'

const props = defineProps<{ query: ComparisonQuery }>()
const forms = {
  html: 'Page that stands alone (HTML)',
  pdf: 'PDF, landscape',
  csv: 'Table (CSV)',
  text: 'Plain text',
  unified: 'Unified, for patch',
}
function address(as: string) {
  const q = new URLSearchParams({ as, zone })
  for (const [k, v] of Object.entries(props.query)) {
    if (Array.isArray(v)) v.forEach((x) => q.append(k, x))
    else if (v !== undefined) q.set(k, String(v))
  }
  return `/api/v1/comparison/document?${q}`
}
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(location.href)
  copied.value = true
  window.setTimeout(() => (copied.value = false), 2000)
}
</script>

<template>
  <button class="control" @click="copy">{{ copied ? 'Copied' : 'Copy link' }}</button>
  <Menu as="div" class="relative">
    <MenuButton class="control">Export</MenuButton>
    <MenuItems class="card absolute right-0 z-10 mt-1 p-1 shadow-lg w-[230px]">
      <MenuItem v-for="(text, as) in forms" :key="as" v-slot="{ active }">
        <a
          class="block rounded-[5px] px-2 py-1"
          :class="active && 'bg-accent-tint text-accent'"
          :href="address(as)"
          download
          >{{ text }}</a
        >
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
