import { onMounted, onUnmounted } from 'vue';
import { useRouter } from 'vue-router';

const PLACES: Record<string, string> = { s: '/storage', c: '/crawls', t: '/catalog', q: '/query', a: '/access' };

/** `/` finds; `g` and a letter go to a place: storage, crawls, catalog (t for tables), query, access. */
export function useKeys(): void {
  const router = useRouter();
  let awaiting = false;
  const onKey = (event: KeyboardEvent) => {
    const target = event.target as HTMLElement;
    if (event.ctrlKey || event.metaKey || event.altKey || target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return;
    if (event.key === '/') {
      event.preventDefault();
      document.querySelector<HTMLInputElement>('#find')?.focus();
      return;
    }
    if (awaiting && PLACES[event.key]) void router.push(PLACES[event.key]!);
    awaiting = event.key === 'g';
  };
  onMounted(() => window.addEventListener('keydown', onKey));
  onUnmounted(() => window.removeEventListener('keydown', onKey));
}
