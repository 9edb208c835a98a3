<script setup lang="ts">
// The head of a table: titles, with widths where they are fixed.
defineProps<{ columns: { title: string; width?: string; right?: boolean; hidden?: boolean }[] }>()
</script>

<template>
  <thead>
    <tr class="text-left text-second text-[11.5px] border-b border-line">
      <th
        v-for="c in columns"
        :key="c.title"
        class="py-2 pr-3"
        :class="c.right && 'text-right'"
        :style="c.width ? { width: c.width } : {}"
      >
        <span :class="c.hidden && 'sr-only'">{{ c.title }}</span>
      </th>
    </tr>
  </thead>
</template>
