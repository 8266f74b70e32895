// The tokens: contrasts on every ground by day and night, colours that the common colour-vision deficiencies tell apart, one scale
// each for type and space.
import { readdirSync, readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';

const css = readFileSync('src/app.css', 'utf8');
const TOKEN = /--([\w-]+): light-dark\((#[0-9a-f]{6}), (#[0-9a-f]{6})\);/g;
const tokens = new Map(
  [...css.matchAll(TOKEN)].map(([, name, day, night]) => [name ?? '', [day ?? '', night ?? ''] as const]),
);
const of = (name: string, at: 0 | 1) => tokens.get(name)?.[at] ?? '';

/** Linear red, green and blue of an sRGB colour (IEC 61966-2-1). */
const linear = (hex: string) =>
  [1, 3, 5].map((at) => {
    const value = parseInt(hex.slice(at, at + 2), 16) / 255;
    return value <= 0.04045 ? value / 12.92 : ((value + 0.055) / 1.055) ** 2.4;
  });
const sum = (weights: readonly number[], of: readonly number[]) =>
  weights.reduce((all, one, at) => all + one * (of[at] ?? 0), 0);
const luminance = (hex: string) => sum([0.2126, 0.7152, 0.0722], linear(hex));
/** WCAG 2.2, relative contrast. */
function contrast(one: string, other: string): number {
  const [high = 0, low = 0] = [luminance(one), luminance(other)].sort((a, b) => b - a);
  return (high + 0.05) / (low + 0.05);
}

/** How colours are seen without one kind of cone, in linear light (Machado, Oliveira and Fernandes 2009, severity 1). */
const SEEN = {
  'all three kinds of cones': [
    [1, 0, 0],
    [0, 1, 0],
    [0, 0, 1],
  ],
  protanopia: [
    [0.152286, 1.052583, -0.204868],
    [0.114503, 0.786281, 0.099216],
    [-0.003882, -0.048116, 1.051998],
  ],
  deuteranopia: [
    [0.367322, 0.860646, -0.227968],
    [0.280085, 0.672501, 0.047413],
    [-0.01182, 0.04294, 0.968881],
  ],
  tritanopia: [
    [1.255528, -0.076749, -0.178779],
    [-0.078411, 0.930809, 0.147602],
    [0.004733, 0.691367, 0.3039],
  ],
};

/** CIE 1976 L*a*b* under D65. */
function lab(light: number[]): number[] {
  const [x = 0, y = 0, z = 0] = [
    sum([0.4124, 0.3576, 0.1805], light) / 0.95047,
    sum([0.2126, 0.7152, 0.0722], light),
    sum([0.0193, 0.1192, 0.9505], light) / 1.08883,
  ].map((value) => (value > 0.008856 ? Math.cbrt(value) : 7.787 * value + 16 / 116));
  return [116 * y - 16, 500 * (x - y), 200 * (y - z)];
}
function apart(one: string, other: string, by: number[][]): number {
  const [first, second] = [one, other].map((hex) =>
    lab(by.map((row) => Math.min(1, Math.max(0, sum(row, linear(hex)))))),
  );
  return Math.hypot(...(first ?? []).map((value, at) => value - (second?.[at] ?? 0)));
}

const GROUNDS = ['paper', 'sheet', 'act-pale'];

describe.each([
  ['day', 0],
  ['night', 1],
] as const)('by %s', (_, at) => {
  it.each(['ink', 'soft', 'inside', 'outside', 'near', 'act'])('%s can be read on every ground', (name) => {
    for (const ground of GROUNDS) expect(contrast(of(name, at), of(ground, at)), ground).toBeGreaterThanOrEqual(4.5);
  });
  it('words on what acts can be read', () => {
    expect(contrast(of('sheet', at), of('act', at))).toBeGreaterThanOrEqual(4.5);
  });
  it('edges stand out', () => {
    for (const ground of GROUNDS) expect(contrast(of('edge', at), of(ground, at)), ground).toBeGreaterThanOrEqual(3);
  });
  it.each(Object.entries(SEEN))('meanings are told apart with %s', (_name, by) => {
    const meanings = ['inside', 'outside', 'near'].map((name) => of(name, at));
    const pairs = meanings.flatMap((one, place) => meanings.slice(place + 1).map((other) => apart(one, other, by)));
    expect(Math.min(...pairs)).toBeGreaterThan(10); // a just noticeable difference is about 2.3
  });
});

it('the values that the canvas begins with are those of the day', () => {
  for (const [, name = '', value] of css.matchAll(/@property --([\w-]+) \{[^}]*initial-value: (#[0-9a-f]{6});/g))
    expect(value).toBe(of(name, 0));
});

const styles = readdirSync('src', { recursive: true, encoding: 'utf8' })
  .filter((path) => path.endsWith('.svelte'))
  .map((path) => [path, readFileSync(`src/${path}`, 'utf8').split('<style>')[1] ?? ''] as const);
describe('every component', () => {
  it('takes colours, sizes of type and spaces from the tokens', () => {
    const own = styles.flatMap(([path, style]) =>
      style
        .split('\n')
        .filter(
          (line) =>
            /#[0-9a-f]{3,8}\b|rgba?\(/i.test(line) ||
            /^ +(font|font-size|gap|row-gap|column-gap|padding[\w-]*|margin[\w-]*):.*\b([2-9]|\d\d+)(\.\d+)?px/.test(
              line,
            ),
        )
        .map((line) => `${path}: ${line.trim()}`),
    );
    expect(own).toEqual(['components/ToleranceRule.svelte: font: 9px var(--figures);']);
  });
  it('leaves the soft style where it is', () => {
    expect(
      styles.filter(([, style]) => /\.soft \{\s*color: var\(--soft\);\s*\}/.test(style)).map(([path]) => path),
    ).toEqual([]);
  });
});
