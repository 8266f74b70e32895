// A take being recorded: what comes from the microphone is numbered, held here until the server has it on its disk, and sent again
// after whatever came between. Levels and treated sound come back; marks go along.
import type { StandInSetting, UnfinishedTake } from './api';
import { Growing } from './growing';
import { Headphones, type Hearing } from './headphones';
import { atPresent, HeldPieces, type HeldPiece, type HeldTake, type TakeMark } from './held-pieces';
import { newId } from './ids';
import { Microphone, Reader, Refused, told, type Input, type Next } from './microphone';
import { STAND_IN, type Level } from './take-check.svelte';

const HEADER = 8;
const MOST_MARKS = 900;
const HELD_TOGETHER_S = 0.2;
const LONGEST_SENT_S = 0.5;
const MOST_UNSENT = 4_000_000;
const AGAIN_MS = [500, 1_000, 2_000, 4_000];
const RECORDING: Next = { opened: 'record again', lost: 'go on with the take' };
export const SEAM = 'Recording went on here';

/** Which steps are heard, which can't be while somebody speaks, and which found nothing to learn from. */
export interface HeardSteps {
  heard: string[];
  left_out: string[];
  untaught: string[];
}

/** One message of the server. */
interface Told {
  kept?: number;
  marks?: number;
  levels: Level[];
  heard?: HeardSteps;
  recording?: string;
  problem: string;
  error: string;
  /** Whether what was refused may go in a while: the page holds what comes until then. */
  again?: boolean;
}

/** A take to go on with, or to finish: what the server or this browser knows of it. */
export interface Interrupted extends HeldTake {
  /** Whether the server knows of it. */
  there: boolean;
}

/** Those that are neither finished nor recorded just now, wherever they are known. */
export function interrupted(there: UnfinishedTake[], held: HeldTake[]): (Interrupted & { kept: number | null })[] {
  const known = there
    .filter(({ goes_on }) => !goes_on)
    .map((it) => {
      const mine = held.find(({ id }) => id === it.id);
      const of = { id: it.id, production: '', name: it.name, heardFrom: it.heard_from, begunAt: it.begun_at };
      return { ...of, rate: it.sample_rate_hz, marks: mine?.marks ?? it.marks, there: true, kept: it.kept_s };
    });
  const elsewhere = held.filter(({ id }) => !there.some((it) => it.id === id));
  return [...known, ...elsewhere.map((it) => ({ ...it, there: false, kept: null }))];
}

export class Taking {
  state = $state<'' | 'starting' | 'on' | 'paused' | 'finishing'>('');
  /** Whether the server can be reached just now. */
  connected = $state(false);
  problem = $state('');
  /** Seconds that were recorded, and those that lie on the server's disk. */
  recorded = $state(0);
  kept = $state(0);
  growing = $state.raw(new Growing());
  /** Counts what was added to it. */
  grown = $state(0);
  clipped = $state(0);
  marks = $state.raw<TakeMark[]>([]);
  name = $state('');
  hearing = $state<Hearing>('');
  heard = $state.raw<HeardSteps>();
  /** How long after it is spoken something is heard, in seconds. */
  delay = $state<number | null>(null);
  /** Whether a reload of the page would lose nothing. */
  survives = $state(true);
  /** The recording that it became. */
  recording = $state('');
  rate = 48_000;
  readonly held = new HeldPieces();

  #production: string;
  #onchange: () => void;
  #take = '';
  #fresh = true;
  #heardFrom = '';
  #begunAt = '';
  #input: Input | undefined;
  #headphones: Headphones | undefined;
  #socket: WebSocket | undefined;
  #again: ReturnType<typeof setTimeout> | undefined;
  #later: ReturnType<typeof setTimeout> | undefined;
  #tries = 0;
  #run = 0;
  /** What was recorded and is not acknowledged. */
  #pieces: HeldPiece[] = [];
  #gathered: Float32Array<ArrayBuffer>[] = [];
  #gatheredFirst = 0;
  #frames = 0;
  #sent = 0;
  /** The frame of the audio clock less that of the take, since it was begun or gone on with last. */
  #clock = 0;
  #capturing = false;
  #lock: WakeLockSentinel | undefined;

  /** `onchange` is called when other places should look at the production's takes again. */
  constructor(production: string, onchange: () => void) {
    [this.#production, this.#onchange] = [production, onchange];
  }

  get busy(): boolean {
    return this.state !== '';
  }

  /** Begin a take from a device by its identifier, or from the stand-in. */
  async start(source: string, setting: StandInSetting, name: string): Promise<void> {
    this.#reset(newId().replaceAll('-', ''), name, true);
    await this.#open(source, setting);
  }

  /** Go on with one that was interrupted. */
  async goOn(it: Interrupted, source: string, setting: StandInSetting): Promise<void> {
    await this.#takeUp(it);
    await this.#open(source, setting, true);
  }

  /** Make a recording of one that was interrupted, with all that this browser still holds of it. */
  async finishOff(it: Interrupted): Promise<void> {
    await this.#takeUp(it);
    this.state = 'finishing';
    this.#connect();
  }

  pause(): void {
    if (this.state !== 'on') return;
    this.#capturing = false;
    this.hold();
    this.#headphones?.pause();
    this.state = 'paused';
  }

  resume(): void {
    if (this.state !== 'paused') return;
    this.#seam();
    this.#capturing = true;
    this.state = 'on';
  }

  mark(text = ''): void {
    if ((this.state !== 'on' && this.state !== 'paused') || this.marks.length >= MOST_MARKS) return;
    this.#setMarks([...this.marks, { frame: this.#frames, text }]);
  }

  async hear(what: Hearing): Promise<void> {
    this.hearing = what;
    this.heard = undefined;
    await this.#headphones?.hear(what);
    this.#say({ hear: this.#treatment });
  }

  /** It is over: all of it is sent, and it becomes a recording. */
  finish(): void {
    if (this.state !== 'on' && this.state !== 'paused') return;
    this.#endInput();
    this.state = 'finishing';
    this.#send();
  }

  /** Let go of the microphone and of the connection; the take stays as it is, to be gone on with. */
  stop(): void {
    this.#run += 1;
    this.#endInput();
    clearTimeout(this.#again);
    clearTimeout(this.#later);
    const socket = this.#socket;
    this.#socket = undefined;
    socket?.close();
    this.connected = false;
    this.state = '';
  }

  get #treatment(): string {
    return this.hearing === 'plain' ? '' : this.hearing;
  }

  #reset(take: string, name: string, fresh: boolean): void {
    this.stop();
    [this.#take, this.#fresh, this.name] = [take, fresh, name];
    [this.#pieces, this.#gathered] = [[], []];
    this.#frames = this.#sent = this.#gatheredFirst = 0;
    this.#begunAt = atPresent();
    this.recorded = this.kept = this.clipped = this.grown = 0;
    this.growing = new Growing();
    this.marks = [];
    this.problem = this.recording = '';
    this.heard = undefined;
  }

  async #takeUp(it: Interrupted): Promise<void> {
    this.#reset(it.id, it.name, !it.there);
    this.#pieces = await this.held.pieces(it.id);
    [this.rate, this.#heardFrom, this.#begunAt, this.marks] = [it.rate, it.heardFrom, it.begunAt, it.marks];
    const last = this.#pieces.at(-1);
    this.#frames = this.#gatheredFirst = last ? last.first + last.samples.length : 0;
    this.recorded = this.#frames / this.rate;
  }

  async #open(source: string, setting: StandInSetting, again = false): Promise<void> {
    const run = this.#run;
    this.state = 'starting';
    const mine = () => run === this.#run;
    const onpiece = (samples: ArrayBuffer, at: number) => mine() && this.#came(samples, at);
    const onlost = (said: string) => mine() && this.#lost(said);
    try {
      const input =
        source === STAND_IN
          ? await Reader.open(setting, onpiece, onlost, RECORDING)
          : await Microphone.open(source, onpiece, onlost, RECORDING);
      if (!mine()) {
        input.stop();
        return;
      }
      this.#input = input;
      input.context.onstatechange = () => {
        if (mine() && input.context.state !== 'running')
          this.#lost('The browser stopped the sound of this page. What came is kept; go on with the take.');
      };
      if (again && this.rate !== input.context.sampleRate)
        throw new Refused(
          `This take was begun at ${this.rate} Hz, and “${input.name}” gives ${input.context.sampleRate} Hz. Choose the one it was begun with, or keep it as it is.`,
        );
      [this.rate, this.#heardFrom] = [input.context.sampleRate, input.name.slice(0, 120)];
      this.#headphones = new Headphones(input, (seconds) => (this.delay = seconds));
      await this.#headphones.hear(this.hearing);
      void navigator.wakeLock?.request('screen').then(
        (lock) => (this.#lock = lock),
        () => undefined,
      );
      this.#connect(() => {
        // Only now is there a place for what comes.
        if (again) this.#seam();
        this.state = 'on';
        this.#capturing = true;
        this.#known();
        this.#onchange();
      });
    } catch (error) {
      if (mine()) this.#lost(error instanceof Refused ? error.message : told(error, RECORDING));
    }
  }

  #seam(): void {
    if (this.#frames) this.#setMarks([...this.marks, { frame: this.#frames, text: SEAM }]);
  }

  #setMarks(marks: TakeMark[]): void {
    this.marks = marks;
    this.#known();
    this.#say({ marks });
  }

  #known(): void {
    void this.held.keep({
      id: this.#take,
      production: this.#production,
      name: this.name,
      heardFrom: this.#heardFrom,
      rate: this.rate,
      begunAt: this.#begunAt,
      marks: this.marks,
    });
  }

  #came(samples: ArrayBuffer, at: number): void {
    if (!this.#capturing) return;
    const piece = new Float32Array(samples);
    this.#clock = at - this.#frames;
    this.#gathered.push(piece);
    this.#frames += piece.length;
    this.recorded = this.#frames / this.rate;
    // What follows what was sent goes at once; the rest waits for its turn.
    if (this.#sent === this.#frames - piece.length && this.#ready()) this.#put({ first: this.#sent, samples: piece });
    if (this.#frames - this.#gatheredFirst >= HELD_TOGETHER_S * this.rate) this.hold();
  }

  /** Put what was gathered where it is held until it is acknowledged. */
  hold(): void {
    if (!this.#gathered.length) return;
    const samples = new Float32Array(this.#frames - this.#gatheredFirst);
    let at = 0;
    for (const piece of this.#gathered) {
      samples.set(piece, at);
      at += piece.length;
    }
    const whole = { first: this.#gatheredFirst, samples };
    this.#pieces.push(whole);
    void this.held.add(this.#take, whole).then(() => (this.survives = this.held.works));
    [this.#gathered, this.#gatheredFirst] = [[], this.#frames];
    if (this.#sent < this.#frames) this.#send();
  }

  #ready(): boolean {
    return this.connected && this.#socket?.readyState === WebSocket.OPEN && this.#socket.bufferedAmount < MOST_UNSENT;
  }

  #put({ first, samples }: HeldPiece): void {
    const content = new ArrayBuffer(HEADER + samples.byteLength);
    new DataView(content).setBigUint64(0, BigInt(first), true);
    new Float32Array(content, HEADER).set(samples);
    this.#socket?.send(content);
    this.#sent = first + samples.length;
  }

  /** Send what is held and was not sent, then say that it is over if it is. */
  #send(): void {
    if (this.state === 'finishing') this.hold();
    const most = Math.floor(LONGEST_SENT_S * this.rate);
    for (const { first, samples } of this.#pieces) {
      for (let at = Math.max(this.#sent - first, 0); at < samples.length; at += most) {
        if (!this.#ready()) {
          this.#sendSoon();
          return;
        }
        this.#put({ first: first + at, samples: samples.slice(at, at + most) });
      }
    }
    if (this.state === 'finishing' && this.connected && this.#sent >= this.#frames) this.#say({ finish: this.#frames });
  }

  /** Once more when some of what waits has gone. */
  #sendSoon(): void {
    if (!this.connected) return;
    clearTimeout(this.#later);
    this.#later = setTimeout(() => this.#send(), 100);
  }

  #say(what: object): void {
    if (this.connected && this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(JSON.stringify(what));
  }

  #connect(onopen?: () => void): void {
    const run = this.#run;
    const scheme = location.protocol === 'https:' ? 'wss' : 'ws';
    const socket = new WebSocket(`${scheme}://${location.host}/api/productions/${this.#production}/take`);
    socket.binaryType = 'arraybuffer';
    this.#socket = socket;
    const mine = () => run === this.#run && socket === this.#socket;
    socket.onopen = () =>
      socket.send(
        JSON.stringify({
          take: this.#take,
          fresh: this.#fresh,
          name: this.name,
          heard_from: this.#heardFrom,
          sample_rate_hz: this.rate,
          hear: this.#treatment,
        }),
      );
    socket.onmessage = ({ data }: MessageEvent<string | ArrayBuffer>) => {
      if (!mine()) return;
      if (typeof data !== 'string') {
        const first = Number(new DataView(data).getBigUint64(0, true));
        this.#headphones?.play(first + this.#clock, data.slice(HEADER));
        return;
      }
      const message = JSON.parse(data) as Told;
      if (message.error && message.again && this.state !== 'starting') this.problem = message.error;
      else if (message.error) this.#lost(message.error);
      else if (message.recording) void this.#done(message.recording);
      else if (!this.connected) this.#met(message, onopen);
      else this.#heard(message);
    };
    socket.onclose = () => {
      if (!mine()) return;
      this.connected = false;
      if (this.state === 'starting') {
        this.#lost('The connection to the server ended before anything was recorded. Try again.');
        return;
      }
      this.#again = setTimeout(() => mine() && this.#connect(), AGAIN_MS[Math.min(this.#tries, AGAIN_MS.length - 1)]);
      this.#tries += 1;
    };
  }

  /** The server said what it has; it gets what is missing there. */
  #met(message: Told, onopen?: () => void): void {
    this.connected = true;
    this.#tries = 0;
    this.problem = '';
    const kept = message.kept ?? 0;
    // Of one that goes on without anything held here, the server's end is the end.
    if (this.#frames < kept) this.#frames = this.#gatheredFirst = kept;
    // A mark may have been set behind what a reload left.
    this.marks = this.marks.map((mark) => ({ ...mark, frame: Math.min(mark.frame, this.#frames) }));
    this.#fresh = false;
    this.#sent = kept;
    this.#acknowledged(kept);
    this.recorded = this.#frames / this.rate;
    if (this.growing.columns.length === 0) this.growing.add(message.levels, true);
    this.grown += 1;
    onopen?.();
    if (this.marks.length) this.#say({ marks: this.marks });
    this.#send();
  }

  #heard(message: Told): void {
    if (message.problem) this.problem = message.problem;
    if (message.kept !== undefined) this.#acknowledged(message.kept);
    if (message.heard) this.heard = message.heard;
    if (message.levels.length) {
      this.growing.add(message.levels);
      this.grown += 1;
      this.clipped += message.levels.filter(({ full_scale }) => full_scale > 0).length;
    }
  }

  #acknowledged(frames: number): void {
    this.kept = frames / this.rate;
    this.#pieces = this.#pieces.filter(({ first, samples }) => first + samples.length > frames);
    const oldest = this.#pieces[0]?.first ?? this.#gatheredFirst;
    void this.held.drop(this.#take, oldest);
  }

  async #done(recording: string): Promise<void> {
    this.stop();
    await this.held.forget(this.#take);
    this.recording = recording;
    this.#onchange();
  }

  #endInput(): void {
    this.#capturing = false;
    this.hold();
    if (this.#input) this.#input.context.onstatechange = null;
    this.#input?.stop();
    this.#input = this.#headphones = undefined;
    this.delay = null;
    void this.#lock?.release();
    this.#lock = undefined;
  }

  #lost(said: string): void {
    this.stop();
    this.problem = said;
    this.#onchange();
  }
}
