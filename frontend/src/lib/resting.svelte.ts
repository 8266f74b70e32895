// A selection once the hand rests: what costs an answer of the server is not asked for at every step of a drag.
import type { Span } from './ribbon-view.svelte';

export class Resting {
  span = $state<Span>();
  #selection: () => Span | undefined;

  /** To be made while a component is set up: it follows the selection as long as that lives. */
  constructor(selection: () => Span | undefined, afterMs: number) {
    this.#selection = selection;
    $effect(() => {
      const now = selection();
      const next = now && { from: now.from, to: now.to };
      const timer = setTimeout(() => (this.span = next), afterMs);
      return () => clearTimeout(timer);
    });
  }

  /** Whether there is anything to ask about. */
  get some(): boolean {
    return this.span !== undefined && this.span.to > this.span.from;
  }

  /** Whether what rests is the selection as it is now: what was asked about another belongs to that one. */
  get current(): boolean {
    const now = this.#selection();
    return this.span?.from === now?.from && this.span?.to === now?.to;
  }

  get query(): { start_s: number; end_s: number } {
    return { start_s: this.span?.from ?? 0, end_s: this.span?.to ?? 0 };
  }
}
