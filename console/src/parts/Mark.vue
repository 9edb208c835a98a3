<template>
  <svg
    viewBox="0 0 24 24"
    width="20"
    height="20"
    fill="none"
    stroke="var(--accent)"
    stroke-width="2"
    stroke-linejoin="round"
    aria-hidden="true"
  >
    <path d="M4 20V6l4 3 4-4 4 4 4-3v14z" />
    <path d="M9 20v-6h6v6" />
  </svg>
</template>
