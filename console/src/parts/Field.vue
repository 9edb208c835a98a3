<script setup lang="ts">
// A labelled input.
const model = defineModel<string | number>()
defineProps<{ label: string; type?: string; placeholder?: string; required?: boolean; wide?: boolean }>()
</script>

<template>
  <label
    class="text-second text-[11.5px]"
    :class="wide ? 'flex-1 min-w-[220px]' : type === 'number' ? 'w-[120px]' : 'min-w-[130px]'"
  >
    {{ label }}
    <input
      v-model="model"
      class="control block w-full h-[34px] text-[13.5px]"
      :type="type ?? 'text'"
      :placeholder="placeholder"
      :required="required"
      spellcheck="false"
      autocomplete="off"
    />
  </label>
</template>
