<script setup lang="ts">
import { ref } from 'vue'
import { useQueryClient } from '@tanstack/vue-query'
import { api, ask, Problem } from '../../api/call'

const queries = useQueryClient()
const old = ref('')
const fresh = ref('')
const wrong = ref('')

async function change() {
  wrong.value = ''
  try {
    await ask(api.PUT('/session/password', { body: { old: old.value, new: fresh.value } }))
    await queries.invalidateQueries({ queryKey: ['session'] })
  } catch (e) {
    wrong.value = e instanceof Problem ? e.message : String(e)
  }
}
</script>

<template>
  <main class="min-h-screen grid place-items-center p-4">
    <form class="card w-[380px] p-6" @submit.prevent="change">
      <h1 class="text-[15px] font-semibold mb-1">This password was for once only</h1>
      <p class="text-second mb-4">Choose your own, of at least ten characters.</p>
      <label class="block mb-3">
        <span class="block mb-1 text-second">One-time password</span>
        <input
          v-model="old"
          class="control w-full py-1.5"
          type="password"
          autocomplete="current-password"
          required
        />
      </label>
      <label class="block mb-4">
        <span class="block mb-1 text-second">New password</span>
        <input
          v-model="fresh"
          class="control w-full py-1.5"
          type="password"
          autocomplete="new-password"
          minlength="10"
          required
        />
      </label>
      <p v-if="wrong" role="alert" class="mb-3 text-alarm">{{ wrong }}</p>
      <button class="main-button w-full">Change it</button>
    </form>
  </main>
</template>
