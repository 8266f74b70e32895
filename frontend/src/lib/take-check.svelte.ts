// A take check under way: what is listened to, the levels of the last half minute, where it stands, and what it came to.
import type { StandInSetting, TakeCheck } from './api';
import { LISTENING, Microphone, Refused, told } from './microphone';

export const STAND_IN = 'stand-in';
export const SHOWN_S = 30;
const A_SECOND = 10;

export interface Level {
  at_s: number;
  peak_dbfs: number | null;
  true_peak_dbtp: number | null;
  rms_dbfs: number | null;
  momentary_lufs: number | null;
  full_scale: number;
}

type State = 'listening' | 'room' | 'reading' | 'complete';

/** One message of the server. */
interface Told {
  state: State;
  left_s: number;
  read_s: number;
  levels: Level[];
  check: TakeCheck | null;
  problem: string;
  error: string;
}

export class Checking {
  /** Whether something is listened to, or about to be. */
  on = $state<'' | 'starting' | 'on'>('');
  state = $state<State>('listening');
  left = $state(0);
  read = $state(0);
  problem = $state('');
  levels = $state.raw<Level[]>([]);
  /** What part of the check each of these levels is of. */
  parts = $state.raw<State[]>([]);
  found = $state.raw<TakeCheck>();
  /** Which microphone is listened to, as the browser names it. */
  device = '';
  #production: string;
  #socket: WebSocket | undefined;
  #microphone: Microphone | undefined;
  #run = 0;

  constructor(production: string) {
    this.#production = production;
  }

  /** The highest peak that is shown. */
  readonly peak = $derived(
    this.levels.reduce<number | null>(
      (most, { peak_dbfs }) => (peak_dbfs !== null && (most === null || peak_dbfs > most) ? peak_dbfs : most),
      null,
    ),
  );

  /** Listen to a device by its identifier, or to the stand-in. */
  async start(source: string, setting: StandInSetting, distance: number | null): Promise<void> {
    this.stop();
    const run = ++this.#run;
    this.on = 'starting';
    this.problem = '';
    [this.levels, this.parts] = [[], []];
    try {
      const opening = { distance_cm: distance, source: source === STAND_IN ? STAND_IN : 'microphone', setting };
      if (source === STAND_IN) {
        this.#open(run, opening);
        return;
      }
      const microphone = await Microphone.open(
        source,
        // Sound that came before the server listens would only wait.
        (samples) => run === this.#run && this.on === 'on' && this.#socket?.send(samples),
        (said) => run === this.#run && this.#lost(said),
        LISTENING,
      );
      if (run !== this.#run) {
        microphone.stop();
        return;
      }
      this.#microphone = microphone;
      this.device = microphone.id;
      this.#open(run, {
        ...opening,
        name: microphone.name.slice(0, 120),
        sample_rate_hz: microphone.context.sampleRate,
      });
    } catch (error) {
      if (run === this.#run) this.#lost(error instanceof Refused ? error.message : told(error, LISTENING));
    }
  }

  stop(): void {
    this.#run += 1;
    this.#microphone?.stop();
    this.#socket?.close();
    this.#microphone = this.#socket = undefined;
    this.on = '';
    this.state = 'listening';
  }

  begin = () => this.#say({ act: 'begin' });
  finish = () => this.#say({ act: 'finish' });
  giveUp = () => this.#say({ act: 'give up' });
  set = (setting: StandInSetting) => this.#say({ setting });
  place = (distance_cm: number | null) => this.#say({ distance_cm });

  /** A page that is hidden is slowed down by browsers, and what is lost of a check is not seen. */
  hidden(): void {
    if (this.state !== 'room' && this.state !== 'reading') return;
    this.giveUp();
    this.problem =
      'This page was hidden during the check, so the check was stopped: browsers slow hidden pages down, and sound may be lost. Check again.';
  }

  #say(what: object): void {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(JSON.stringify(what));
  }

  #open(run: number, opening: object): void {
    const scheme = location.protocol === 'https:' ? 'wss' : 'ws';
    const socket = new WebSocket(`${scheme}://${location.host}/api/productions/${this.#production}/take-check`);
    this.#socket = socket;
    socket.onopen = () => {
      socket.send(JSON.stringify(opening));
    };
    socket.onmessage = ({ data }: MessageEvent<string>) => run === this.#run && this.#heard(JSON.parse(data) as Told);
    socket.onclose = () =>
      run === this.#run && this.#lost('The connection to the server ended. Start listening again.');
  }

  #heard(message: Told): void {
    if (message.error) {
      this.#lost(message.error);
      return;
    }
    this.on = 'on';
    if (message.problem) this.problem = message.problem;
    if (message.check) this.found = message.check;
    if (message.check || message.problem) return;
    if (message.state === 'room' && this.state !== 'room') this.problem = '';
    [this.state, this.left, this.read] = [message.state, message.left_s, message.read_s];
    const keep = SHOWN_S * A_SECOND;
    this.levels = [...this.levels, ...message.levels].slice(-keep);
    this.parts = [...this.parts, ...message.levels.map(() => message.state)].slice(-keep);
  }

  #lost(said: string): void {
    this.stop();
    this.problem = said;
  }
}
