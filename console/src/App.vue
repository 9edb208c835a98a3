<script setup lang="ts">
import { computed } from 'vue'
import { useSession } from './api/queries'
import SignIn from './pages/sign-in/SignIn.vue'
import NewPassword from './pages/sign-in/NewPassword.vue'
import Shell from './parts/Shell.vue'

const session = useSession()
const signedOut = computed(() => session.isError.value && session.error.value?.status === 401)
</script>

<template>
  <div v-if="session.isPending.value" class="p-8 text-second" role="status">One moment …</div>
  <SignIn v-else-if="signedOut" />
  <div v-else-if="session.isError.value" class="p-8" role="alert">
    <h1 class="answer">The service does not answer.</h1>
    <p class="mt-2 text-second">{{ session.error.value?.message }}</p>
    <button class="control mt-4" @click="session.refetch()">Try again</button>
  </div>
  <NewPassword v-else-if="session.data.value?.mustChangePassword" />
  <Shell v-else-if="session.data.value" :session="session.data.value" />
</template>
