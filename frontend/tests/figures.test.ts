// The page writes figures as the core does: both pass the same cases.
import { readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import * as format from '../src/lib/format';

type Case = [...given: unknown[], expected: string];
const cases = JSON.parse(readFileSync('../tests/figures.json', 'utf8')) as Record<string, Case[]>;
const writers = format as unknown as Record<string, (...given: unknown[]) => string>;

describe.each(Object.entries(cases))('%s', (name, all) => {
  it.each(all.map((one) => [one.slice(0, -1), one.at(-1)]))('of %j', (given, expected) => {
    expect(writers[name]?.(...(given as unknown[]))).toBe(expected);
  });
});

describe('what is written is read again', () => {
  it.each([
    ['−23.5', -23.5],
    ['-23,5', -23.5],
    [' 1:02:03 ', 3723],
    ['0:59', 59],
    ['loud', 'loud'],
    ['', ''],
    ['1:2:3:4', '1:2:3:4'],
  ])('%j', (text, expected) => expect(format.written(text)).toBe(expected));

  it('counts in words', () => {
    expect([1, 2, 1200].map((count) => format.counted(count, 'recording'))).toEqual([
      '1 recording',
      '2 recordings',
      '1,200 recordings',
    ]);
    expect(format.counted(2, 'voice of two', 'voices of two')).toBe('2 voices of two');
  });

  it('tells sizes in the largest unit that fits', () => {
    expect([512, 999_999, 1_000_000, 2_500_000_000].map(format.size)).toEqual(['1 kB', '1,000 kB', '1.0 MB', '2.5 GB']);
  });
});
