<script setup lang="ts">
// A button that asks again before it does what cannot be undone.
import { ref } from 'vue'

defineProps<{ what: string }>()
const emit = defineEmits<{ sure: [] }>()
const asked = ref(false)
function press() {
  if (asked.value) emit('sure')
  asked.value = !asked.value
}
</script>

<template>
  <button
    type="button"
    class="control"
    :class="asked && 'text-alarm font-semibold'"
    :aria-label="asked ? `Really delete ${what}?` : `Delete ${what}`"
    @click="press"
    @blur="asked = false"
    @keydown.escape="asked = false"
  >
    {{ asked ? 'Really?' : 'Delete' }}
  </button>
</template>
