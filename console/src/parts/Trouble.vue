<script setup lang="ts">
// An error in the place where a list or page would be.
defineProps<{ error: Error | null; retry?: () => void }>()
</script>

<template>
  <div v-if="error" class="card p-5" role="alert">
    <p class="font-medium">{{ error.message }}</p>
    <button v-if="retry" class="control mt-3" @click="retry">Try again</button>
  </div>
</template>
