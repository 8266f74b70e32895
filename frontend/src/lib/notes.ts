// What a note may be about: its words, and the key that makes one while a file is listened to.
import type { NoteKind } from './api';

export const NOTE_KINDS: readonly (readonly [NoteKind, string, string])[] = [
  ['misread', 'Misread', 'm'],
  ['noise', 'Noise', 'n'],
  ['retake', 'Needs a retake', 'r'],
  ['other', 'Note', 't'],
];
export const NOTE_TITLES = Object.fromEntries(NOTE_KINDS.map(([kind, title]) => [kind, title])) as Record<
  NoteKind,
  string
>;
