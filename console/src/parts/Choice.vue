<script setup lang="ts">
// A labelled choice.
const model = defineModel<string>()
defineProps<{ label: string; options: Record<string, string>; required?: boolean }>()
</script>

<template>
  <label class="text-second text-[11.5px]">
    {{ label }}
    <select v-model="model" class="control block h-[34px] text-[13.5px] min-w-[120px]" :required="required">
      <option v-for="(text, value) in options" :key="value" :value="value">{{ text }}</option>
    </select>
  </label>
</template>
