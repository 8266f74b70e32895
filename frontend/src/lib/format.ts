// Figures as they are shown: tabular, a real minus sign, the unit apart.
import type { Facts, LimitVerdict } from './api';

export function number(value: number, decimals: number): string {
  const text = value.toFixed(decimals);
  return (Number(text) === 0 ? text.replace('-', '') : text).replace('-', '\u2212');
}

/** A duration in seconds as minutes and seconds, with hours where there are any. */
export function clock(seconds: number): string {
  const whole = Math.round(seconds);
  const parts = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60, whole % 60];
  const shown = parts[0] ? parts : parts.slice(1);
  return shown.map((part, index) => (index ? String(part).padStart(2, '0') : String(part))).join(':');
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

/** A limit's reading without its unit; lengths of minutes and more as a clock. */
export function reading(limit: LimitVerdict, more = 0): string {
  if (limit.reading === null) return limit.position === 'unmeasured' ? '–' : 'silence';
  if (typeof limit.reading === 'string') return limit.reading;
  if (limit.quantity === 'duration_s') return clock(limit.reading);
  return number(limit.reading, limit.decimals + (limit.decimals ? more : 0));
}

export function unit(limit: { quantity: string; unit: string; reading?: LimitVerdict['reading'] }): string {
  return limit.quantity === 'duration_s' || limit.reading === null ? '' : limit.unit;
}

/** The distance to the nearer bound in words: "0.8 dB inside", "4.3 dB over". */
export function distance(limit: LimitVerdict): string {
  if (limit.margin === null) return limit.note ?? '';
  const side = limit.margin >= 0 ? 'inside' : limit.position;
  if (limit.quantity === 'duration_s') return `${clock(Math.abs(limit.margin))} ${side}`;
  if (!limit.difference_unit) return limit.margin >= 0 ? '' : `${number(Math.abs(limit.margin), 0)} ${side}`;
  return `${number(Math.abs(limit.margin), limit.decimals)} ${limit.difference_unit} ${side}`;
}

/** The bounds of a limit in words. */
export function bounds(limit: {
  low: number | null;
  high: number | null;
  one_of?: string[];
  quantity: string;
  decimals: number;
  unit: string;
}): string {
  if (limit.one_of?.length) return limit.one_of.join(' or ');
  const figure = (value: number) =>
    limit.quantity === 'duration_s' ? clock(value) : number(value, Number.isInteger(value) ? 0 : limit.decimals);
  const tail = limit.quantity === 'duration_s' || !limit.unit ? '' : ` ${limit.unit}`;
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
export function bound(value: number | string | null | undefined, quantity: string): string {
  if (typeof value !== 'number') return value ?? '';
  if (quantity !== 'duration_s') return String(value).replace('-', '\u2212');
  return [Math.floor(value / 3600), Math.floor(value / 60) % 60, Math.round(value) % 60]
    .map((part, index) => (index ? String(part).padStart(2, '0') : String(part)))
    .join(':');
}

export const date = (iso: string) =>
  new Date(iso).toLocaleString('en-GB', {
    day: 'numeric',
    month: 'long',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
  });
