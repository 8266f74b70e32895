// What changes on the server, as it changes. Progress is kept here; anything else makes what shows it ask again.
import type { Notice } from './api';
import { askAgain, askWho, isOwn } from './changes';

const ASK_EVERY_MS = 400;
const AGAIN_MS = 1500;

export class Live {
  /** Stage and fraction of running work by its id. */
  progress = $state<Record<string, { stage: string; fraction: number }>>({});
  connected = $state(true);
  #source: EventSource | undefined;
  #told: Notice[] = [];
  #asked = -Infinity;
  #waiting: ReturnType<typeof setTimeout> | undefined;
  #again: ReturnType<typeof setTimeout> | undefined;

  open(): () => void {
    this.#listen();
    return () => {
      clearTimeout(this.#again);
      this.#source?.close();
      this.connected = true;
    };
  }

  /** The browser tries again by itself after a broken connection, but not after an answer that is no stream: then we do. */
  #listen(): void {
    const source = new EventSource('/api/events');
    this.#source = source;
    source.onopen = () => (this.connected = true);
    source.onerror = () => {
      this.connected = false;
      if (source.readyState !== EventSource.CLOSED) return;
      askWho();
      clearTimeout(this.#again);
      this.#again = setTimeout(() => this.#listen(), AGAIN_MS);
    };
    source.onmessage = (event: MessageEvent<string>) => this.#receive(JSON.parse(event.data) as Notice);
  }

  #receive(message: Notice): void {
    if (isOwn(message)) return;
    if (message.work && message.state === 'waiting') delete this.progress[message.work];
    if (message.work && message.state === 'running' && message.stage) {
      const known = message.work in this.progress;
      this.progress[message.work] = { stage: message.stage, fraction: message.fraction };
      if (known) return;
    }
    this.#told.push(message);
    // A draft changes with every figure that is turned.
    if (message.about === 'draft') void this.#ask();
    else this.#soon();
  }

  /** At once when it was quiet, and once more after a burst: two hundred recordings being measured change ten times a second. */
  #soon(): void {
    if (this.#waiting) return;
    const wait = Math.max(0, this.#asked + ASK_EVERY_MS - performance.now());
    this.#waiting = setTimeout(() => {
      this.#waiting = undefined;
      this.#asked = performance.now();
      void this.#ask();
    }, wait);
  }

  async #ask(): Promise<void> {
    await askAgain(this.#told.splice(0));
  }
}
