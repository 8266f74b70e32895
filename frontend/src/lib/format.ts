// Figures as they are shown: tabular, a real minus sign, the unit apart.
// The core has the same in figures.py and standing.py; both pass the cases in tests/figures.json.
import type { Facts, LimitVerdict } from './api';
import { quantity } from './quantities';

const MOST_DECIMALS = 6;
const COARSE = ['Hz', 'kbit/s'];

const writers = new Map<number, Intl.NumberFormat>();

/** What writes figures with so many decimals; making one takes longer than writing a hundred. */
function writer(decimals: number): Intl.NumberFormat {
  const digits = { minimumFractionDigits: decimals, maximumFractionDigits: decimals };
  const found = writers.get(decimals) ?? new Intl.NumberFormat('en-GB', { ...digits, signDisplay: 'negative' });
  writers.set(decimals, found);
  return found;
}

/** A figure with so many decimals, rounded as it is and not as it is written (1.005 is less than that): ties go away from zero, nothing is "−0", thousands are set apart by commas. */
export const number = (value: number, decimals: number): string =>
  writer(decimals)
    .format(value.toFixed(decimals) as `${number}`)
    .replace('-', '\u2212');

/** A figure with no more decimals than it needs: what somebody asked for is never rounded to something else. */
export function exact(value: number): string {
  const text = number(value, MOST_DECIMALS);
  return text.includes('.') ? text.replace(/\.?0+$/, '') : text;
}

/** A length or a place in time as minutes and seconds, with hours where there are any. */
export function clock(seconds: number, decimals = 0): string {
  const [whole = '0', part] = Math.abs(seconds).toFixed(decimals).split('.');
  const total = Number(whole);
  const parts = [Math.floor(total / 3600), Math.floor(total / 60) % 60, total % 60];
  const shown = (parts[0] ? parts : parts.slice(1)).map((each, at) => (at ? String(each).padStart(2, '0') : `${each}`));
  const text = shown.join(':') + (part === undefined ? '' : `.${part}`);
  return seconds < 0 && /[1-9]/.test(text) ? `\u2212${text}` : text;
}

export function size(bytes: number): string {
  if (bytes >= 1e9) return `${number(bytes / 1e9, 1)} GB`;
  return bytes < 1e6 ? `${number(bytes / 1e3, 0)} kB` : `${number(bytes / 1e6, 1)} MB`;
}

export function facts(of: Facts): string {
  const depth = of.bit_depth ? `${of.bit_depth} bit` : `${number(of.bit_rate_kbps ?? 0, 0)} kbit/s`;
  const channels = of.channels === 1 ? 'mono' : of.channels === 2 ? 'stereo' : `${of.channels} channels`;
  return `${of.container.toUpperCase()} ${number(of.sample_rate_hz / 1000, of.sample_rate_hz % 1000 ? 1 : 0)} kHz, ${depth}, ${channels}`;
}

type Judged = Pick<
  LimitVerdict,
  'quantity' | 'unit' | 'difference_unit' | 'decimals' | 'reading' | 'position' | 'margin' | 'note'
>;

/** A limit's reading without its unit, with `more` decimals than usual but no more than two; lengths of files as a clock. */
export function reading(limit: Judged, more = 0): string {
  if (limit.reading === null) return limit.position === 'unmeasured' ? '–' : 'silence';
  if (typeof limit.reading === 'string') return limit.reading;
  if (quantity(limit.quantity).clock) return clock(limit.reading);
  return number(limit.reading, limit.decimals ? Math.max(limit.decimals, Math.min(limit.decimals + more, 2)) : 0);
}

export function unit(limit: { quantity: string; unit: string; reading?: LimitVerdict['reading'] }): string {
  return quantity(limit.quantity).clock || limit.reading === null ? '' : limit.unit;
}

/** The distance to the nearer bound in words, "0.8 dB inside", "4.3 dB too high": more than nothing where the limit is missed. */
export function distance(limit: Judged): string {
  if (limit.margin === null) return limit.note ?? '';
  const inside = limit.margin >= 0;
  const side = inside ? 'inside' : quantity(limit.quantity).sides[limit.position === 'over' ? 1 : 0];
  const far = Math.abs(limit.margin);
  if (quantity(limit.quantity).clock) return `${clock(far)} ${side}`;
  if (inside && (!limit.difference_unit || COARSE.includes(limit.difference_unit))) return '';
  let decimals = limit.decimals;
  while (!inside && decimals < 3 && Number(far.toFixed(decimals)) === 0) decimals += 1;
  return `${number(far, decimals)} ${limit.difference_unit} ${side}`.replace('  ', ' ');
}

/** What a limit allows, and whether it is only advice. */
export function asked(limit: Parameters<typeof bounds>[0] & Pick<LimitVerdict, 'severity'>): string {
  return bounds(limit) + (limit.severity === 'advice' ? ', advice' : '');
}

/** How a limit is coloured: as it stands, but advice that is not met only warns. */
export function tone(limit: Pick<LimitVerdict, 'position' | 'severity'>): LimitVerdict['position'] {
  const missed = limit.position === 'over' || limit.position === 'under';
  return missed && limit.severity === 'advice' ? 'near' : limit.position;
}

/** The bounds of a limit in words. */
export function bounds(limit: {
  low: number | null;
  high: number | null;
  one_of?: string[];
  quantity: string;
  unit: string;
}): string {
  if (limit.one_of?.length) return limit.one_of.join(' or ');
  const figure = (value: number) => (quantity(limit.quantity).clock ? clock(value) : exact(value));
  const tail = quantity(limit.quantity).clock || !limit.unit ? '' : ` ${limit.unit}`;
  if (limit.low !== null && limit.high !== null)
    return limit.low === limit.high
      ? `${figure(limit.low)}${tail}`
      : `${figure(limit.low)} to ${figure(limit.high)}${tail}`;
  return limit.low !== null ? `at least ${figure(limit.low)}${tail}` : `at most ${figure(limit.high ?? 0)}${tail}`;
}

/** A number as somebody writes it: either minus sign, or a clock of hours, minutes and seconds. What is no number stays text. */
export function written(text: string): number | string {
  const plain = text
    .trim()
    .replace(/\u2212/g, '-')
    .replace(',', '.');
  if (/^\d+(:\d{1,2}){1,2}$/.test(plain)) return plain.split(':').reduce((sum, part) => sum * 60 + Number(part), 0);
  return plain !== '' && Number.isFinite(Number(plain)) ? Number(plain) : text.trim();
}

/** A bound as it is edited: all its decimals, durations of files as a clock. */
export function bound(value: number | string | null | undefined, of: string): string {
  if (typeof value !== 'number') return value ?? '';
  return quantity(of).clock ? clock(value) : exact(value).replaceAll(',', '');
}

export const day = (iso: string) => new Date(iso).toLocaleDateString('en-GB', { dateStyle: 'long' });
export const time = (iso: string) => new Date(iso).toLocaleTimeString('en-GB');
export const date = (iso: string) =>
  new Date(iso).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'long',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
  });

/** So many of something: "1 recording", "3 recordings". */
export const counted = (count: number, what: string, many = `${what}s`) =>
  `${number(count, 0)} ${count === 1 ? what : many}`;
