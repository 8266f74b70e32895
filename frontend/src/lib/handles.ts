// What can be moved along the ribbon: where the words begin and end, and the marks of chapters.
import type { ChapterMark } from './api';
import { clock, number } from './format';
import { LEFT, type Frame } from './ribbon-geometry';

export interface Handle {
  key: string;
  /** At which edge of the picture it is held. */
  edge: 'top' | 'bottom';
  name: string;
  at: number;
  least: number;
  most: number;
  /** What a place means, in words. */
  said: (at: number) => string;
  move: (at: number) => unknown;
}

/** Room tone is put in up to so much at a time, and no end is made shorter than this. */
export const LONGEST_S = 60;
export const SHORTEST_S = 0.05;
const APART_S = 0.01;

export interface Ends {
  head: number;
  tail: number;
  duration: number;
}

/** Where the words begin and end: what lies before and behind becomes so long as they are drawn away from the end. */
export function endHandles(
  { head, tail, duration }: Ends,
  set: (wish: { head_s?: number; tail_s?: number }) => unknown,
): Handle[] {
  const last = duration - tail;
  return [
    {
      key: 'head',
      edge: 'bottom',
      name: 'Head',
      at: head,
      least: SHORTEST_S,
      most: Math.min(LONGEST_S, duration),
      said: (at) => `${number(at, 2)} s before the first word`,
      move: (at) => set({ head_s: at }),
    },
    {
      key: 'tail',
      edge: 'bottom',
      name: 'Tail',
      at: last,
      least: Math.max(0, duration - LONGEST_S),
      most: duration - SHORTEST_S,
      said: (at) => `${number(duration - at, 2)} s after the last word`,
      move: (at) => set({ tail_s: duration - at }),
    },
  ];
}

export const chapterName = ({ title }: ChapterMark, place: number) => title || `Chapter ${place + 1}`;

export const chapterHandles = (
  marks: ChapterMark[],
  duration: number,
  move: (chapter: string, at: number) => unknown,
): Handle[] =>
  marks.map((mark, place) => ({
    key: mark.id,
    edge: 'top',
    name: `Chapter mark ${chapterName(mark, place)}`,
    at: mark.at_s,
    least: 0,
    most: duration - APART_S,
    said: (at) => clock(at, 2),
    move: (at) => move(mark.id, at),
  }));

/** Chapter marks with their names, where those have room beside the one before. */
export function chaptersIn(frame: Frame, marks: ChapterMark[]): { at: number; name: string }[] {
  let free = LEFT;
  return marks
    .map((mark, place) => ({ at: frame.x(mark.at_s), name: chapterName(mark, place) }))
    .filter(({ at }) => at >= LEFT && at <= frame.right)
    .map(({ at, name }) => {
      const room = Math.floor((frame.right - at) / LETTER) - 1;
      const shown = name.length <= room ? name : `${name.slice(0, Math.max(room - 1, 0))}…`;
      const fits = at >= free && room > 2;
      if (fits) free = at + (shown.length + 2) * LETTER;
      return { at, name: fits ? shown : '' };
    });
}

/** About how wide a letter of the axes is, in pixels. */
const LETTER = 6;
