<script setup lang="ts">
// What is treated as equal: section patterns, and what each device has of its own.
import { ref } from 'vue'

const props = defineProps<{ patterns: string[]; twoDevices: boolean; strict: boolean }>()
const emit = defineEmits<{ patterns: [string[]]; strict: [boolean] }>()
const typed = ref('')
function add() {
  const p = typed.value.trim()
  if (p && !props.patterns.includes(p)) emit('patterns', [...props.patterns, p])
  typed.value = ''
}
</script>

<template>
  <h3 class="text-second text-[11.5px] mt-3 mb-0.5">treat as equal</h3>
  <p v-for="p in patterns" :key="p" class="flex justify-between gap-1 mono">
    <span class="truncate" :title="p">{{ p }}</span>
    <button
      class="text-second hover:text-ink"
      :aria-label="`Do not treat ${p} as equal`"
      @click="
        emit(
          'patterns',
          patterns.filter((x) => x !== p),
        )
      "
    >
      ×
    </button>
  </p>
  <form @submit.prevent="add">
    <input
      v-model="typed"
      class="control mono w-full mt-1"
      aria-label="Section pattern to treat as equal"
      placeholder="interface * > mtu *"
      title="A section pattern: headings and a line, separated by >; * is any word, ** all that follow. Enter adds it."
      spellcheck="false"
      maxlength="500"
    />
  </form>
  <label v-if="twoDevices" class="mt-2 flex gap-1.5 items-start text-[11.5px]">
    <input
      type="checkbox"
      class="mt-0.5"
      :checked="!strict"
      @change="emit('strict', !($event.target as HTMLInputElement).checked)"
    />
    names, addresses and secrets, which each device has of its own
  </label>
</template>
