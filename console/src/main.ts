import { createApp } from 'vue'
import { VueQueryPlugin, QueryClient } from '@tanstack/vue-query'
import App from './App.vue'
import { router } from './router'
import { Problem } from './api/call'
import './style.css'

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 30_000,
      retry: (count, error) => count < 2 && (!(error instanceof Problem) || error.status === 0),
    },
  },
})
createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
