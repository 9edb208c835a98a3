<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const keys = [
  ['/', 'to the search or selector box'],
  ['g t', 'today'],
  ['g f', 'fleet'],
  ['g h', 'changes: what happened'],
  ['g d', 'drift'],
  ['g u', 'audit'],
  ['g n', 'standards and policies'],
  ['g a', 'add devices'],
  ['g s', 'schedules'],
  ['g c', 'compare'],
  ['g r', 'rounds'],
  ['g o', 'journal'],
  ['j, k', 'down and up a list'],
  ['Enter', 'open'],
  ['n, p', 'next and previous difference'],
  ['?', 'this list'],
]
</script>

<template>
  <Dialog :open="open" class="relative z-10" @close="emit('close')">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true" />
    <div class="fixed inset-0 grid place-items-center p-4">
      <DialogPanel class="card p-5 w-[340px]">
        <DialogTitle class="font-semibold mb-3">Keyboard</DialogTitle>
        <dl class="grid grid-cols-[80px_1fr] gap-y-1.5">
          <template v-for="[k, what] in keys" :key="k">
            <dt>
              <kbd class="key">{{ k }}</kbd>
            </dt>
            <dd class="text-second">{{ what }}</dd>
          </template>
        </dl>
        <button class="control mt-4" @click="emit('close')">Close</button>
      </DialogPanel>
    </div>
  </Dialog>
</template>
