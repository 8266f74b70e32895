// Proof listening: a file played at up to three times its speed with its pitch kept, and a report of what was really heard.
import { acts, got } from './api';

export type Of = 'recording' | 'attempt' | 'deliverable';
interface Span {
  start_s: number;
  end_s: number;
  speed: number;
}

export const SPEEDS = [1, 1.25, 1.5, 1.75, 2, 2.5, 3];
/** Between two looks a player goes on by no more than this, in seconds of its own time; more is a jump. */
const JUMP_S = 1;
const REPORT_MS = 5_000;
const WHO = 'listener';

/** Who listens on this machine, as they said. */
export const listener = (): string => localStorage.getItem(WHO) ?? '';
export const setListener = (name: string): void => localStorage.setItem(WHO, name);

/** What was heard in one sitting, told to the server a few seconds at a time and when it ends. */
export class Sitting {
  readonly #of: Of;
  readonly #subject: string;
  readonly #id = crypto.randomUUID();
  #spans: Span[] = [];
  #timer: ReturnType<typeof setInterval>;
  #sent: Promise<unknown> = Promise.resolve();

  constructor(of: Of, subject: string) {
    this.#of = of;
    this.#subject = subject;
    this.#timer = setInterval(() => void this.tell(), REPORT_MS);
  }

  /** A stretch was heard at a speed. */
  heard(start_s: number, end_s: number, speed: number): void {
    if (end_s <= start_s) return;
    const last = this.#spans.at(-1);
    if (last?.speed === speed && Math.abs(last.end_s - start_s) < 0.05) last.end_s = end_s;
    else this.#spans.push({ start_s, end_s, speed });
  }

  /** Tells what was heard since the last time; what can't be told now is told later. */
  tell(): Promise<unknown> {
    const spans = this.#spans;
    if (!spans.length) return this.#sent;
    this.#spans = [];
    const body = { id: this.#id, of: this.#of, subject: this.#subject, who: listener(), spans };
    this.#sent = this.#sent
      .then(() => got(acts.POST('/api/listenings', { body, keepalive: true })))
      .catch(() => (this.#spans = [...spans, ...this.#spans]));
    return this.#sent;
  }

  end(): void {
    clearInterval(this.#timer);
    void this.tell();
  }
}

/** A sound element that is listened to, and what of it is heard. */
export class Proof {
  playing = $state(false);
  position = $state(0);
  speed = $state(1);
  problem = $state('');
  #sound: HTMLAudioElement;
  #sitting: Sitting;
  #from = 0;
  #frame = 0;

  constructor(address: string, of: Of, subject: string) {
    this.#sitting = new Sitting(of, subject);
    const sound = (this.#sound = new Audio(address));
    sound.preload = 'metadata';
    sound.preservesPitch = true;
    sound.onplay = () => this.#began();
    sound.onpause = sound.onended = () => this.#paused();
    sound.onseeking = () => (this.#from = sound.currentTime);
    sound.onerror = () => (this.problem = 'This file can’t be played. Reload the page, then try again.');
  }

  /** The element that plays, for who wants to listen in on it. */
  get sound(): HTMLAudioElement {
    return this.#sound;
  }

  toggle(): void {
    if (this.playing) this.#sound.pause();
    else void this.play();
  }

  async play(): Promise<void> {
    this.problem = '';
    this.#sound.playbackRate = this.speed;
    try {
      await this.#sound.play();
    } catch (error) {
      if ((error as Error).name !== 'AbortError') this.problem = `Playback stopped: ${(error as Error).message}`;
    }
  }

  seek(seconds: number): void {
    this.#note();
    const end = Number.isFinite(this.#sound.duration) ? this.#sound.duration : seconds;
    this.#sound.currentTime = this.position = this.#from = Math.max(0, Math.min(seconds, end));
  }

  setSpeed(speed: number): void {
    this.#note();
    this.speed = this.#sound.playbackRate = speed;
  }

  /** Another step of speed up or down. */
  step(by: 1 | -1): void {
    const at = SPEEDS.indexOf(this.speed) + by;
    this.setSpeed(SPEEDS[Math.max(0, Math.min(at, SPEEDS.length - 1))] ?? 1);
  }

  end(): void {
    this.#sound.pause();
    this.#note();
    this.#sitting.end();
    this.#sound.removeAttribute('src');
    cancelAnimationFrame(this.#frame);
  }

  #began(): void {
    this.playing = true;
    this.#from = this.#sound.currentTime;
    const look = () => {
      this.#note();
      this.position = this.#sound.currentTime;
      if (this.playing) this.#frame = requestAnimationFrame(look);
    };
    this.#frame = requestAnimationFrame(look);
  }

  #paused(): void {
    this.#note();
    this.playing = false;
    this.position = this.#sound.currentTime;
    void this.#sitting.tell();
  }

  /** Notes what was played since the last look. */
  #note(): void {
    const now = this.#sound.currentTime;
    if (this.playing && now > this.#from && now - this.#from <= JUMP_S * Math.max(1, this.speed))
      this.#sitting.heard(this.#from, now, this.speed);
    this.#from = now;
  }
}
