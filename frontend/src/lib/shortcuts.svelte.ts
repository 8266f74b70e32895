// The keyboard shortcuts of what is on screen: each screen adds its own, one place listens to them and lists them.
import { getContext, untrack } from 'svelte';

export interface Shortcut {
  /** Which keys, as events name them; none where something else listens to it and it is only listed. */
  keys: string[];
  /** How the list writes them. */
  shown: string;
  does: string;
  act?: () => unknown;
  /** Where the focus has to be (a selector): keys that scroll a page elsewhere act there alone. */
  within?: string;
  /** Together with Ctrl or Cmd, and Shift if that is asked for. */
  ctrl?: 'plain' | 'shift';
}

export interface ShortcutList {
  title: string;
  list: Shortcut[];
  hint?: string;
}

const KEPT = 'single-keys';
/** Where keys write or choose. */
const WRITTEN = 'input:not([type=checkbox], [type=radio]), select, textarea';

export class Shortcuts {
  lists = $state.raw<ShortcutList[]>([]);
  /** Whether single letters, digits and signs act at all: speech input and a stray touch may write them. */
  single = $state(localStorage.getItem(KEPT) !== 'off');

  /** Add a screen's; the function that is returned takes them away again. */
  add(list: ShortcutList): () => void {
    this.lists = [...this.lists, list];
    return () => (this.lists = this.lists.filter((one) => one !== list));
  }

  allowSingle(on: boolean): void {
    this.single = on;
    localStorage.setItem(KEPT, on ? 'on' : 'off');
  }

  handle(event: KeyboardEvent): void {
    const found = this.#found(event);
    if (!found?.act) return;
    event.preventDefault();
    void found.act();
  }

  #found(event: KeyboardEvent): Shortcut | undefined {
    const target = event.target as HTMLElement;
    // AltGr writes signs on many keyboards; what it writes is no shortcut.
    if (event.defaultPrevented || event.altKey || event.getModifierState('AltGraph')) return;
    if (document.querySelector('dialog[open]') || target.closest(WRITTEN)) return;
    const ctrl = event.ctrlKey || event.metaKey ? (event.shiftKey ? 'shift' : 'plain') : undefined;
    const key = ctrl ? event.key.toLowerCase() : event.key;
    if (target.matches('[type=radio]') && (key === ' ' || key.startsWith('Arrow'))) return;
    if (!ctrl && !this.single && key.length === 1 && key !== ' ') return;
    return this.lists
      .flatMap(({ list }) => list)
      .find((one) => one.keys.includes(key) && one.ctrl === ctrl && (!one.within || target.matches(one.within)));
  }
}

/** Add shortcuts for as long as the component that calls this is on screen. */
export function shortcuts(list: () => ShortcutList): void {
  const all = getContext<Shortcuts>('shortcuts');
  $effect(() => {
    const mine = list();
    const remove = untrack(() => all.add(mine));
    return () => untrack(remove);
  });
}

/** Undo and redo, under the keys that everything uses. */
export const undoing = (undo: () => unknown, redo: () => unknown): Shortcut[] => [
  { keys: ['z'], shown: 'Ctrl+Z', does: 'undo', ctrl: 'plain', act: undo },
  { keys: ['z'], shown: 'Ctrl+Shift+Z', does: 'redo', ctrl: 'shift', act: redo },
];
