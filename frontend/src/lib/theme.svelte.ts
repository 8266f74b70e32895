// Paper or slate: as the system has it, or as somebody chose in this browser; always paper when it is printed.
import { flushSync } from 'svelte';

const KEPT = 'ispettore-theme';
const NIGHT = '(prefers-color-scheme: dark)';

export type Choice = 'system' | 'light' | 'dark';
export const CHOICES: readonly (readonly [Choice, string])[] = [
  ['system', 'As the system'],
  ['light', 'Light'],
  ['dark', 'Dark'],
];

class Theme {
  choice = $state<Choice>('system');
  #night = $state(false);
  /** Whether the page is being printed: pictures are drawn for paper then. */
  printing = $state(false);

  constructor() {
    const kept = localStorage.getItem(KEPT);
    this.#put(kept === 'light' || kept === 'dark' ? kept : 'system');
    const system = window.matchMedia(NIGHT);
    this.#night = system.matches;
    system.addEventListener('change', ({ matches }) => (this.#night = matches));
    window.matchMedia('print').addEventListener('change', ({ matches }) => flushSync(() => (this.printing = matches)));
  }

  /** Whether the page is dark now. */
  get dark(): boolean {
    if (this.printing) return false;
    return this.choice === 'system' ? this.#night : this.choice === 'dark';
  }

  choose(to: Choice): void {
    if (to === 'system') localStorage.removeItem(KEPT);
    else localStorage.setItem(KEPT, to);
    this.#put(to);
  }

  #put(to: Choice): void {
    this.choice = to;
    const root = document.documentElement;
    if (to === 'system') delete root.dataset.theme;
    else root.dataset.theme = to;
  }
}

export const theme = new Theme();
