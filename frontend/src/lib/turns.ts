// Who speaks when, corrected by hand: whole passages from the start of a recording to its end.
import type { Turn } from './api';

/** How voices are called: the one that speaks more is A. */
export const voiceName = (voice: number) => 'AB'.charAt(voice) || '?';

/** The passages with a span given to a voice; where there were none, the first voice speaks all the rest. */
export function given(turns: Turn[], span: { from: number; to: number }, voice: number, duration: number): Turn[] {
  const before = turns.length ? turns : [{ start_s: 0, end_s: duration, voice: 0 }];
  const cut = before.flatMap((turn) =>
    [
      { ...turn, end_s: Math.min(turn.end_s, span.from) },
      { ...turn, start_s: Math.max(turn.start_s, span.from), end_s: Math.min(turn.end_s, span.to), voice },
      { ...turn, start_s: Math.max(turn.start_s, span.to) },
    ].filter((part) => part.end_s > part.start_s),
  );
  const joined: Turn[] = [];
  for (const turn of cut) {
    const last = joined.at(-1);
    if (last?.voice === turn.voice) last.end_s = turn.end_s;
    else joined.push({ ...turn });
  }
  return joined;
}
