// Playing source and treated, or two versions, in lockstep: short pieces of both are scheduled at the same moments, and a swap only moves two gains.
// When the treated version becomes another while it plays, the source goes on, and the new sound takes over as soon as it is there.
import type { Piece, Track } from './sounding';

type Side = 'source' | 'treated';

const PIECE_S = 1;
const AHEAD_S = 2.5;
const FADE_S = 0.006;
const LOOK_MS = 60;
/** How far ahead of the moment a new sound is asked for, so that it can be scheduled in time, in seconds. */
const SOON_S = 0.06;
/** The first piece of a new sound is short: it comes sooner. */
const FIRST_S = 0.5;

interface Playing {
  node: AudioBufferSourceNode;
  side: Side;
  /** How many changes the treated sound has had. */
  revision: number;
  /** When it ends, on the audio clock. */
  ends: number;
}

export class Player {
  playing = $state(false);
  /** Nothing can be heard yet, but is on its way. */
  coming = $state(false);
  /** Playing was asked for meanwhile: it begins as soon as there is something to be heard. */
  waiting = $state(false);
  /** Position on the source's time, in seconds. */
  position = $state(0);
  side = $state<Side>('source');
  matched = $state(true);
  /** While two versions are compared blind nothing may tell which is heard. */
  hidden = $state(false);
  problem = $state('');
  /** What is played over and over, in seconds of the source. */
  loop = $state<{ from: number; to: number }>();
  /** How long the last change took to be heard, by the audio clock, in seconds. */
  heardAfter = $state<number>();
  /** The name of the treated sound that took over last while we play. */
  heard = $state<string>();
  /** What the two sides are called. */
  names = $state<Record<Side, string>>({ source: 'original', treated: 'processed' });
  /** Told what was heard of a sound, in seconds of the source's time. */
  onheard?: (track: Track, from: number, to: number) => void;
  /** From where on the side that is heard was not told of yet. */
  #untold = 0;
  #tracks = $state<Partial<Record<Side, Track>>>({});
  #context: AudioContext | undefined;
  #gains: Partial<Record<Side, GainNode>> = {};
  #nodes: Playing[] = [];
  #run = 0;
  #revision = 0;
  #zero = 0;
  #from = 0;
  /** Up to where pieces are scheduled, by the source's time. */
  #next = 0;
  #abort = new AbortController();

  /** What each side is turned down by so that both are equally loud, in dB: the louder one, as turning up might clip. */
  readonly match = $derived.by((): Record<Side, number> => {
    const one = this.#tracks.source?.loudness ?? null;
    const other = this.#tracks.treated?.loudness ?? null;
    const louder = one !== null && other !== null ? one - other : 0;
    return { source: Math.min(0, -louder), treated: Math.min(0, louder) };
  });

  get duration(): number {
    return this.#tracks.source?.duration ?? 0;
  }

  get hasTreated(): boolean {
    return this.#tracks.treated !== undefined;
  }

  load(source: Track, treated?: Track, names = { source: 'original', treated: 'processed' }): void {
    this.#tell(); // of what was loaded before
    const waited = this.waiting;
    this.coming = false;
    this.names = names;
    const before = this.#tracks;
    const same = before.source?.name === source.name;
    const other = before.treated?.name !== treated?.name;
    this.#tracks = { source, treated };
    if (!treated) this.side = 'source';
    if (!same || (other && !treated)) this.stop();
    else if (other && treated) void this.#revise(treated);
    else this.#level();
    this.position = Math.min(this.position, this.duration);
    if (waited) void this.play();
  }

  /** Nothing can be heard: what was loaded before must not be taken for it. `coming` is whether something is on its way. */
  unload(coming = false): void {
    this.stop();
    this.coming = coming;
    this.#tracks = {};
    this.side = 'source';
  }

  toggle(): void {
    if (this.playing || this.waiting) this.stop();
    else void this.play();
  }

  seek(seconds: number): void {
    const again = this.playing || this.waiting;
    this.stop();
    this.position = Math.max(0, this.coming ? seconds : Math.min(seconds, this.duration));
    if (again) void this.play();
  }

  swap(to?: Side): void {
    if (!this.hasTreated) return;
    this.#tell();
    this.side = to ?? (this.side === 'source' ? 'treated' : 'source');
    this.#level();
  }

  setMatched(on: boolean): void {
    this.matched = on;
    this.#level();
  }

  stop(): void {
    this.#tell();
    this.#run += 1;
    this.#abort.abort();
    for (const { node } of this.#nodes) node.stop();
    this.#nodes = [];
    this.playing = this.waiting = false;
  }

  async play(): Promise<void> {
    const source = this.#tracks.source;
    this.waiting = !source && this.coming;
    if (!source) return;
    if (this.loop && (this.position < this.loop.from || this.position >= this.loop.to)) this.position = this.loop.from;
    if (this.position >= this.duration - 0.05) this.position = 0;
    this.problem = '';
    const run = ++this.#run;
    const { signal } = (this.#abort = new AbortController());
    this.#context ??= new AudioContext({ sampleRate: source.rate });
    const context = this.#context;
    await context.resume();
    for (const side of ['source', 'treated'] as const) {
      if (this.#gains[side]) continue;
      const gain = context.createGain();
      gain.connect(context.destination);
      this.#gains[side] = gain;
    }
    this.#level();
    this.playing = true;
    this.#from = this.#untold = this.position;
    try {
      this.#next = this.#from;
      let first: [Side, Piece | null][];
      let revision: number;
      do {
        revision = this.#revision;
        first = await this.#pieces(this.#next, signal);
        if (run !== this.#run) return;
      } while (revision !== this.#revision); // a change came in between: what was fetched is the old one
      this.#zero = context.currentTime + 0.05;
      this.#schedule(context, first, this.#next);
      this.heard = this.#tracks.treated?.name;
      this.#next += PIECE_S;
      this.#follow(context, run);
      while (run === this.#run && this.#next < this.duration) {
        const wait = this.#next - AHEAD_S - this.#at(context.currentTime);
        // What lies behind the end of a loop is not heard, unless the loop is given up meanwhile.
        if (this.loop && this.#next >= this.loop.to) {
          await new Promise((resolve) => setTimeout(resolve, LOOK_MS));
          continue;
        }
        if (wait > 0) {
          await new Promise((resolve) => setTimeout(resolve, wait * 1000));
          continue;
        }
        const revision = this.#revision;
        const pieces = await this.#pieces(this.#next, signal);
        if (run !== this.#run) return;
        // A change came in between: what was fetched of the treated version is the old one, and comes again.
        if (revision !== this.#revision) continue;
        this.#schedule(context, pieces, this.#next);
        this.#next += PIECE_S;
      }
    } catch (error) {
      if (run !== this.#run) return;
      this.stop();
      this.problem = `Playback stopped: ${(error as Error).message}`;
    }
  }

  /** Let another treated sound take over while we play: a short piece at once, then the rest of what is scheduled already. */
  async #revise(track: Track): Promise<void> {
    const context = this.#context;
    const revision = ++this.#revision;
    if (!this.playing || !context) return;
    const run = this.#run;
    const { signal } = this.#abort;
    const asked = context.currentTime;
    // What follows what is scheduled now comes as the new sound anyway.
    const end = Math.min(this.#next, this.duration);
    const now = () => run === this.#run && revision === this.#revision;
    const taken = (heard: number) => {
      this.heardAfter = heard - asked;
      this.heard = track.name;
      this.problem = '';
    };
    try {
      let [at, seconds] = [this.#at(asked) + SOON_S, FIRST_S];
      let first = true;
      while (at < end) {
        const until = Math.min(at + seconds, end);
        const sent = context.currentTime;
        const piece = await track.piece(at, until - at, signal);
        if (!now()) return;
        const came = context.currentTime;
        const heard = Math.max(this.#when(at), came + 0.01);
        if (first && heard >= this.#when(until)) {
          // It was played past meanwhile: the sound before goes on, and a piece is asked for that outlasts such a wait.
          [at, seconds] = [this.#at(came) + SOON_S, came - sent + PIECE_S];
          continue;
        }
        if (first) {
          this.#silence(revision, heard);
          taken(heard);
        }
        if (piece) this.#start(context, 'treated', piece, at, heard - this.#when(at));
        first = false;
        [at, seconds] = [until, PIECE_S];
      }
      if (first) taken(this.#when(end));
    } catch (error) {
      if (now() && !signal.aborted) this.problem = (error as Error).message;
    }
  }

  /** End what is scheduled of the treated sound as it was before a change, at a moment of the audio clock. */
  #silence(revision: number, when: number): void {
    const old = (one: Playing) => one.side === 'treated' && one.revision < revision && one.ends > when;
    for (const one of this.#nodes) if (old(one)) one.node.stop(when);
    this.#nodes = this.#nodes.filter((one) => !old(one));
  }

  /** Where we are by the source's time at a moment of the audio clock, and the other way round. */
  #at(when: number): number {
    return this.#from + when - this.#zero;
  }
  #when(at: number): number {
    return this.#zero + (at - this.#from);
  }

  /** Where we are, as long as we play. */
  #follow(context: AudioContext, run: number): void {
    const step = () => {
      if (run !== this.#run) return;
      this.position = Math.min(this.duration, Math.max(this.#from, this.#at(context.currentTime)));
      if (this.loop && this.position >= this.loop.to) this.seek(this.loop.from);
      else if (this.position >= this.duration) this.stop();
      else requestAnimationFrame(step);
    };
    requestAnimationFrame(step);
  }

  /** Tells what was heard since the last time; while which side it was must not be known, nothing. */
  #tell(): void {
    const track = this.#tracks[this.side];
    if (this.playing && track && !this.hidden && this.position > this.#untold)
      this.onheard?.(track, this.#untold, this.position);
    this.#untold = this.position;
  }

  #level(): void {
    const context = this.#context;
    if (!context) return;
    for (const side of ['source', 'treated'] as const) {
      const turned = this.matched ? 10 ** (this.match[side] / 20) : 1;
      this.#gains[side]?.gain.setTargetAtTime(side === this.side ? turned : 0, context.currentTime, FADE_S);
    }
  }

  #pieces(at: number, signal: AbortSignal): Promise<[Side, Piece | null][]> {
    const wanted = (['source', 'treated'] as const).filter((side) => this.#tracks[side]);
    return Promise.all(
      wanted.map(async (side): Promise<[Side, Piece | null]> => [
        side,
        await this.#piece(this.#tracks[side], at, signal),
      ]),
    );
  }

  async #piece(track: Track | undefined, at: number, signal: AbortSignal): Promise<Piece | null> {
    try {
      return (await track?.piece(at, PIECE_S, signal)) ?? null;
    } catch (error) {
      if (!track?.rehearsed || signal.aborted) throw error;
      if (track === this.#tracks.treated) this.problem = (error as Error).message;
      return null;
    }
  }

  #schedule(context: AudioContext, pieces: [Side, Piece | null][], at: number): void {
    for (const [side, piece] of pieces) if (piece) this.#start(context, side, piece, at, 0);
  }

  /** Start a piece that belongs at a moment of the source's time; what of it has gone by is left out. */
  #start(context: AudioContext, side: Side, piece: Piece, at: number, gone: number): void {
    const gain = this.#gains[side];
    const count = piece.samples.length / Math.max(piece.channels, 1);
    if (!gain || count === 0) return;
    const buffer = context.createBuffer(piece.channels, count, piece.rate);
    for (let channel = 0; channel < piece.channels; channel++) {
      const line = buffer.getChannelData(channel);
      for (let frame = 0; frame < count; frame++) line[frame] = piece.samples[frame * piece.channels + channel] ?? 0;
    }
    const node = context.createBufferSource();
    node.buffer = buffer;
    node.connect(gain);
    const begins = this.#when(at) + piece.late;
    const skipped = Math.max(0, gone - piece.late);
    if (skipped >= buffer.duration) return;
    node.start(begins + skipped, skipped);
    const one = { node, side, revision: this.#revision, ends: begins + buffer.duration };
    this.#nodes.push(one);
    node.onended = () => (this.#nodes = this.#nodes.filter((other) => other !== one));
  }
}
