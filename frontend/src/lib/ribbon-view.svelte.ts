// What of a recording the level ribbon shows, and what is selected in it. Times are seconds from its start.

/** The closest view: so many samples at 44.1 kHz across the whole ribbon. */
const CLOSEST_S = 64 / 44_100;

/** Levels in decibels, the linear wave, or how strong each pitch is. */
export type Picture = 'levels' | 'wave' | 'spectrogram';

export interface Span {
  from: number;
  to: number;
}

export class RibbonView {
  start = $state(0);
  end = $state(0);
  selection = $state<Span>();
  picture = $state<Picture>('levels');
  /** Whether short-term loudness is drawn over the levels. */
  loudness = $state(false);
  #duration = $state(0);
  #of = '';

  get duration(): number {
    return this.#duration;
  }

  get wave(): boolean {
    return this.picture === 'wave';
  }

  /** Show this picture, or the levels again where it is shown already. */
  turn(to: Picture): void {
    this.picture = this.picture === to ? 'levels' : to;
  }

  get span(): number {
    return this.end - this.start;
  }

  get whole(): boolean {
    return this.span >= this.duration - 1e-9;
  }

  /** Another sound, or the same one again: its view is kept then; and where `of` has become shorter or longer, as far as it goes. */
  open(duration: number, of = ''): void {
    if (of === this.#of && duration === this.#duration) return;
    const same = Boolean(of) && of === this.#of && this.#duration > 0 && duration > 0;
    const [whole, span] = [this.whole, this.span];
    [this.#of, this.#duration] = [of, duration];
    this.selection = undefined;
    if (same && !whole) this.#place(this.start, Math.min(span, duration));
    else this.fit();
  }

  fit(): void {
    this.start = 0;
    this.end = this.duration;
  }

  /** Closer by a factor above 1, wider below it; what is at `around` stays where it is. */
  zoom(factor: number, around: number): void {
    const span = Math.min(this.duration, Math.max(CLOSEST_S, this.span / factor));
    const share = this.span ? (around - this.start) / this.span : 0;
    this.#place(around - share * span, span);
  }

  pan(seconds: number): void {
    this.#place(this.start + seconds, this.span);
  }

  show(from: number, to: number): void {
    this.#place(from, Math.max(CLOSEST_S, to - from));
  }

  /** Turn the page when the playhead leaves it. */
  follow(position: number): void {
    if (this.whole || (position >= this.start && position < this.end)) return;
    this.#place(position - this.span * 0.05, this.span);
  }

  /** Bring a place into view without changing how close it is, unless it does not fit. */
  reveal(from: number, to: number): void {
    if (from >= this.start && to <= this.end) return;
    if (to - from > this.span) this.show(from - (to - from) * 0.1, to + (to - from) * 0.1);
    else this.#place((from + to) / 2 - this.span / 2, this.span);
  }

  select(one: number, other: number): void {
    const [from, to] = [Math.min(one, other), Math.max(one, other)];
    this.selection = { from: Math.max(0, from), to: Math.min(this.duration, to) };
  }

  #place(start: number, span: number): void {
    this.start = Math.max(0, Math.min(start, this.duration - span));
    this.end = this.start + span;
  }
}
