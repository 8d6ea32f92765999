import { defineStore } from 'pinia'
import { ref, watchEffect } from 'vue'

/** Light or dark, remembered on this computer. */
export const useTheme = defineStore('theme', () => {
  const dark = ref(localStorage.getItem('theme') === 'dark')
  watchEffect(() => {
    document.documentElement.dataset.theme = dark.value ? 'dark' : 'light'
    localStorage.setItem('theme', dark.value ? 'dark' : 'light')
  })
  return { dark, toggle: () => (dark.value = !dark.value) }
})
