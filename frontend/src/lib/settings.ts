// A step's settings as they are edited: a value put at a path, and how far a figure moves when it is dragged or nudged by a key.
import type { StepSetting } from './api';
import { exact, written } from './format';

type Settings = Record<string, unknown>;

/** The settings with one value changed: the path leads through lists by numbers and through objects by names. */
export function withValue(settings: Settings, path: string, value: unknown): Settings {
  const [name = '', ...rest] = path.split('.');
  const inner = rest.join('.');
  const there = settings[name];
  if (!inner) return { ...settings, [name]: value };
  if (Array.isArray(there)) {
    const [at = '0', ...deeper] = rest;
    const list = [...(there as unknown[])];
    list[Number(at)] = deeper.length ? withValue((list[Number(at)] ?? {}) as Settings, deeper.join('.'), value) : value;
    return { ...settings, [name]: list };
  }
  return { ...settings, [name]: withValue((there ?? {}) as Settings, inner, value) };
}

/** A list in the settings with one entry more, or without the one at a place. */
export function withEntry(settings: Settings, list: string, entry: unknown): unknown[] {
  return [...((settings[list] as unknown[] | undefined) ?? []), entry];
}
export function withoutEntry(settings: Settings, path: string): unknown[] {
  const [list = '', at] = path.split('.');
  return ((settings[list] as unknown[] | undefined) ?? []).filter((_, index) => index !== Number(at));
}

/** Whether a figure moves by shares of itself: frequencies and times do, levels do not. */
const byShares = (unit: string) => unit === 'Hz' || unit === 'ms';
const NOTCHES: Record<string, number> = { s: 0.05, ': 1': 0.1 };

/** One notch of a key, or of four pixels of a drag. */
function notch(setting: StepSetting): number {
  if (setting.whole) return 1;
  const unit = setting.unit ?? '';
  if (unit.startsWith('dB') || unit === 'LUFS') return 0.5;
  return NOTCHES[unit] ?? ((setting.most ?? 1) - (setting.least ?? 0)) / 100;
}

/** The value so many notches further, inside its range, rounded to what a person would write. */
export function moved(setting: StepSetting, from: number, notches: number): number {
  const unit = setting.unit ?? '';
  const by = notch(setting);
  const raw = byShares(unit) ? from * 1.03 ** notches : from + by * notches;
  const fine = byShares(unit) ? 10 ** Math.floor(Math.log10(Math.max(raw, 1e-3)) - 1) : by / 5;
  const held = Math.max(setting.least ?? -Infinity, Math.min(setting.most ?? Infinity, raw));
  const rounded = setting.whole ? Math.round(held) : Math.round(held / fine) * fine;
  return Number(rounded.toPrecision(6));
}

/** What somebody wrote for a setting: a number, several, or nothing where that may be left to the step. */
export function read(setting: StepSetting, text: string): unknown {
  const plain = text.trim();
  if (setting.form === 'numbers') return plain === '' ? [] : plain.split(/[;\s]+|,\s+/).map((part) => written(part));
  if (plain === '') return setting.absent ? null : '';
  return written(plain.replace(/(\d),(?=\d{3}\b)/g, '$1'));
}

/** A setting's value as it is edited. */
export function shown(setting: StepSetting): string {
  const value: unknown = setting.value;
  if (value === null || value === undefined) return '';
  if (Array.isArray(value)) return value.map((one) => (typeof one === 'number' ? exact(one) : String(one))).join('; ');
  return typeof value === 'number' ? exact(Number(value.toFixed(3))) : String(value);
}
