import { defineStore } from 'pinia';
import { ref } from 'vue';
import { call } from '../api/client';

export const useSession = defineStore('session', () => {
  const person = ref('');
  const engine = ref<{ memory: string; threads: number }>();
  const theme = ref<'light' | 'dark'>(document.documentElement.dataset.theme === 'dark' ? 'dark' : 'light');

  async function load(): Promise<void> {
    const answer = await call<{ person: string; engine: { memory: string; threads: number } }>('/session');
    person.value = answer.person;
    engine.value = answer.engine;
  }

  function setTheme(wanted: 'light' | 'dark'): void {
    theme.value = wanted;
    document.documentElement.dataset.theme = wanted;
    localStorage.setItem('theme', wanted);
  }

  return { person, engine, theme, load, setTheme };
});
