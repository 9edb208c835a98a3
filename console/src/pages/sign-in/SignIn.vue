<script setup lang="ts">
import { ref } from 'vue'
import { useQueryClient } from '@tanstack/vue-query'
import { api, ask, Problem } from '../../api/call'
import Mark from '../../parts/Mark.vue'

const queries = useQueryClient()
const account = ref('')
const password = ref('')
const wrong = ref('')
const busy = ref(false)

async function signIn() {
  busy.value = true
  wrong.value = ''
  try {
    const session = await ask(
      api.POST('/session', { body: { account: account.value, password: password.value } }),
    )
    queries.setQueryData(['session'], session)
  } catch (e) {
    wrong.value = e instanceof Problem ? e.message : String(e)
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="min-h-screen grid place-items-center p-4">
    <form class="card w-[340px] p-6" @submit.prevent="signIn">
      <div class="flex items-center gap-2 mb-5"><Mark /><b class="text-[15px]">Verge Keep</b></div>
      <h1 class="sr-only">Sign in</h1>
      <label class="block mb-3">
        <span class="block mb-1 text-second">Account</span>
        <input
          v-model="account"
          class="control w-full py-1.5"
          name="account"
          autocomplete="username"
          autofocus
          required
        />
      </label>
      <label class="block mb-4">
        <span class="block mb-1 text-second">Password</span>
        <input
          v-model="password"
          class="control w-full py-1.5"
          name="password"
          type="password"
          autocomplete="current-password"
          required
        />
      </label>
      <p v-if="wrong" role="alert" class="mb-3 text-alarm">{{ wrong }}</p>
      <button class="main-button w-full" :disabled="busy">Sign in</button>
    </form>
  </main>
</template>
