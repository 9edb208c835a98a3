// Before the first paint: the theme that was chosen here, or the system's.
document.documentElement.dataset.theme =
  localStorage.getItem('theme') || (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')
