<script setup lang="ts">
import { exact, when } from './say'

defineProps<{ at: string | undefined }>()
</script>

<template>
  <time v-if="at" :datetime="at" :title="exact(at)">{{ when(at) }}</time>
</template>
