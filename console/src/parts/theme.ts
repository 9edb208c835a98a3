import { ref } from 'vue'

export const theme = ref(document.documentElement.dataset['theme'] ?? 'light')

export function switchTheme() {
  theme.value = theme.value === 'dark' ? 'light' : 'dark'
  document.documentElement.dataset['theme'] = theme.value
  localStorage.setItem('theme', theme.value)
}
