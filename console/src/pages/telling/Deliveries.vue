<script setup lang="ts">
// What was sent, and what is to be.
import type { components } from '../../api/contract.gen'
import { plural } from '../../parts/say'
import Moment from '../../parts/Moment.vue'

type Delivery = components['schemas']['Delivery']
defineProps<{ list: Delivery[]; mayChange: boolean }>()
const emit = defineEmits<{ again: [number] }>()
function said(d: Delivery) {
  if (d.state === 'sent') return 'sent'
  if (d.state === 'dead') return 'given up'
  return d.trouble ? `tried ${d.tries} ×` : 'waits'
}
</script>

<template>
  <section class="card px-3.5 py-3 min-w-0">
    <h2 class="font-semibold mb-1">Sent, and to be sent</h2>
    <table v-if="list.length" class="w-full">
      <tbody>
        <tr v-for="d in list" :key="d.id" class="border-b border-line last:border-0 h-[30px]">
          <td class="w-[130px]"><Moment :at="d.made" /></td>
          <td class="truncate max-w-0 pr-2">
            {{ d.subscription }} <span class="text-second">to {{ d.channel }}</span>
          </td>
          <td class="w-[80px] text-second">{{ plural(d.notices, 'thing') }}</td>
          <td class="w-[150px] text-right">
            <span
              class="tag"
              :class="
                d.state === 'dead'
                  ? 'bg-alarm-tint text-alarm'
                  : d.trouble
                    ? 'bg-attention-tint text-attention'
                    : 'text-second font-normal'
              "
              :title="d.trouble"
              >{{ said(d) }}</span
            >
            <button
              v-if="d.state === 'dead'"
              class="control ml-1.5"
              :disabled="!mayChange"
              @click="emit('again', d.id)"
            >
              Try again
            </button>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="text-second">Nothing was to be sent yet.</p>
  </section>
</template>
