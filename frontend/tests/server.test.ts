// What changed is asked for again, once: which questions a notice makes old, and how a page knows its own acts.
import { beforeEach, describe, expect, it, vi } from 'vitest';
import type { Notice } from '../src/lib/api';
import { acts, got } from '../src/lib/api';
import { ACT, askAgain, CHANGED, isOwn, shown } from '../src/lib/changes';
import { client } from '../src/lib/client';
import type { Shows } from '../src/lib/question';
import { Acting } from '../src/lib/acting.svelte';
import * as access from '../src/lib/server/access';
import * as certificates from '../src/lib/server/certificates';
import * as drafts from '../src/lib/server/drafts';
import * as installation from '../src/lib/server/installation';
import * as productions from '../src/lib/server/productions';
import * as recordings from '../src/lib/server/recordings';
import * as specifications from '../src/lib/server/specifications';
import * as treatments from '../src/lib/server/treatments';
import * as uploads from '../src/lib/server/uploads';
import { moved } from '../src/lib/sheet-acts.svelte';

const notice = (rest: Partial<Notice> & Pick<Notice, 'about'>): Notice => ({ id: '', ...rest }) as Notice;
const old = (question: { meta: { shows: Shows } }, one: Notice, data?: unknown) => question.meta.shows(one, data);
const ofRecording = notice({ about: 'recording', id: 'r', recording: 'r', production: 'p' });
const ofProduction = notice({ about: 'production', id: 'p', production: 'p' });
const measured = notice({ about: 'inspect', id: 'r', recording: 'r', production: 'p' });
const made = notice({ about: 'conform', id: 'c', recording: 'r', production: 'p' });
const turned = notice({ about: 'draft', id: 'r', recording: 'r', production: 'p' });
const heard = notice({ about: 'listening', id: 'r', recording: 'r', production: 'p' });

describe('a notice makes old', () => {
  const asked = {
    'the sheet': productions.sheet('p'),
    'another sheet': productions.sheet('q'),
    productions: productions.all(),
    'the recording': recordings.one('r'),
    'another recording': recordings.one('s'),
    'the version': recordings.version('c'),
    'the draft': drafts.draft('r', async () => 1),
    'the steps': drafts.steps('r'),
    'steps of another': drafts.steps('s'),
    delivery: productions.delivery('p'),
    certificates: certificates.all({ production: '', of: '', stands: '', search: '', count: 1 }),
    keys: certificates.keys(),
    'the specification': specifications.one('x'),
    treatments: treatments.all(),
    defaults: installation.defaults(),
    'parts of uploads': uploads.unfinished('p'),
    'who is in': access.access(),
    people: access.people(),
  };
  const by = (one: Notice) => Object.keys(asked).filter((name) => old(asked[name as keyof typeof asked], one));
  it.each([
    [
      ofRecording,
      [
        'the sheet',
        'productions',
        'the recording',
        'the draft',
        'the steps',
        'delivery',
        'certificates',
        'parts of uploads',
      ],
    ],
    [turned, ['the draft']],
    [heard, ['delivery']],
    [notice({ about: 'keys' }), ['keys']],
    [notice({ about: 'access' }), ['who is in', 'people']],
    [notice({ about: 'uploads' }), ['parts of uploads']],
    [notice({ about: 'specification', id: 'x' }), ['the specification']],
    [notice({ about: 'treatment', id: 't' }), ['treatments']],
  ])('%j', (one, expected) => expect(by(one)).toEqual(expected));

  it('what is made, with where it was used', () => {
    expect(by(made)).toContain('the version');
    expect(by(made)).toContain('the specification');
    expect(by(made)).not.toContain('another recording');
  });
  it('steps of other recordings, as a tone match is offered with theirs', () => {
    expect(by(measured)).toContain('steps of another');
    expect(by(ofProduction)).toContain('steps of another');
  });
  it('a recording by the production that its answer names', () => {
    const another = recordings.one('s');
    expect(old(another, ofProduction, { production_id: 'p' })).toBe(true);
    expect(old(another, ofProduction, { production_id: 'q' })).toBe(false);
    expect(old(another, ofRecording, { production_id: 'p' })).toBe(false);
  });
  it('a row that was taken out of its production, when it may be back', () => {
    const row = recordings.row('r', 'p', undefined as never);
    expect(old(row, ofProduction, null)).toBe(true);
    expect(old(row, notice({ about: 'production', id: 'q', production: 'q' }), null)).toBe(false);
  });
  it('what is listened to, by the recording that its answer names', () => {
    const file = recordings.listening('deliverable', 'd');
    expect(old(file, heard, { recording: 'r' })).toBe(true);
    expect(old(file, heard, { recording: 's' })).toBe(false);
  });
});

describe('a page', () => {
  const asked: string[] = [];
  const answerTo: { changed: Notice[]; status: number; lost: boolean } = { changed: [], status: 200, lost: false };
  let counts: Record<string, number>;

  async function shownOnScreen(name: string, shows: Shows): Promise<void> {
    const options = {
      queryKey: [name],
      meta: { shows },
      queryFn: async () => (counts[name] = (counts[name] ?? 0) + 1),
    };
    const { QueryObserver } = await import('@tanstack/svelte-query');
    new QueryObserver(client, options).subscribe(() => undefined);
    await client.fetchQuery(options);
  }

  beforeEach(async () => {
    client.clear();
    counts = {};
    asked.length = 0;
    Object.assign(answerTo, { changed: [], status: 200, lost: false });
    await shownOnScreen('frost', (one) => one.id === 'frost');
    await shownOnScreen('thaw', (one) => one.id === 'thaw');
    expect(counts).toEqual({ frost: 1, thaw: 1 });
  });
  async function fetch(request: Request): Promise<Response> {
    asked.push(request.headers.get(ACT) ?? '');
    if (answerTo.lost) throw new TypeError('away');
    const headers = { [CHANGED]: JSON.stringify(answerTo.changed), 'content-type': 'application/json' };
    const body = answerTo.status === 200 ? '{}' : '{"error":"Not now.","act":"again"}';
    return new Response(body, { status: answerTo.status, headers });
  }
  const roll = () => got(acts.POST('/api/keys/roll', { baseUrl: 'http://127.0.0.1/', fetch }));

  it('asks again for what its answer names, and leaves out what the stream says of it', async () => {
    answerTo.changed = [notice({ about: 'recording', id: 'frost' })];
    await roll();
    await shown();
    expect(counts).toEqual({ frost: 2, thaw: 1 });
    expect(isOwn(notice({ about: 'recording', id: 'frost', act: asked[0] }))).toBe(true);
    expect(isOwn(notice({ about: 'recording', id: 'frost', act: 'somebody else' }))).toBe(false);
    expect(isOwn(notice({ about: 'recording', id: 'frost' }))).toBe(false);
  });

  it('believes the stream where no answer came', async () => {
    answerTo.lost = true;
    const refused = roll();
    refused.catch(() => undefined);
    await vi.waitFor(() => expect(asked).toHaveLength(1));
    await expect(refused).rejects.toThrow('did not answer');
    await shown();
    expect(counts).toEqual({ frost: 1, thaw: 1 });
    expect(isOwn(notice({ about: 'recording', id: 'frost', act: asked[0] }))).toBe(false);
  });

  it('asks for what the stream said before its connection broke', async () => {
    answerTo.lost = true;
    const spoken = async (request: Request) => {
      isOwn(notice({ about: 'recording', id: 'thaw', act: request.headers.get(ACT) ?? '' }));
      return fetch(request);
    };
    const refused = got(acts.POST('/api/keys/roll', { baseUrl: 'http://127.0.0.1/', fetch: spoken }));
    await expect(refused).rejects.toThrow('did not answer');
    await shown();
    expect(counts).toEqual({ frost: 1, thaw: 2 });
  });

  it('asks who it is for where it is let in no more, and nothing else in circles', async () => {
    await shownOnScreen('access', () => false);
    answerTo.status = 401;
    await expect(roll()).rejects.toThrow('Not now.');
    await vi.waitFor(() => expect(counts).toEqual({ frost: 1, thaw: 1, access: 2 }));
  });

  it('asks for everything where everything changed', async () => {
    await askAgain([notice({ about: 'everything' })]);
    expect(counts).toEqual({ frost: 2, thaw: 2 });
    await askAgain([]);
    expect(counts).toEqual({ frost: 2, thaw: 2 });
  });

  it('keeps a refusal in words, with what helps', async () => {
    answerTo.status = 409;
    const acting = new Acting();
    expect(await acting.attempt(roll)).toBeUndefined();
    expect([acting.problem, acting.act]).toEqual(['Not now.', 'again']);
    answerTo.status = 200;
    await acting.again();
    expect(acting.problem).toBe('');
    expect(asked).toHaveLength(2);
  });

  it('does once what must not be done twice, and in turn what follows on another', async () => {
    const acting = new Acting();
    const done: string[] = [];
    let go = () => undefined as void;
    const waiting = new Promise<void>((resolve) => (go = resolve));
    const first = acting.attempt(async () => (await waiting, done.push('first')), { once: 'certify' });
    await acting.attempt(async () => done.push('again'), { once: 'certify' });
    expect(done).toEqual([]);
    go();
    await first;
    const slow = acting.attempt(async () => (await new Promise((soon) => setTimeout(soon, 20)), done.push('slow')), {
      inTurn: 'names',
    });
    await Promise.all([slow, acting.attempt(async () => done.push('quick'), { inTurn: 'names' })]);
    expect(done).toEqual(['first', 'slow', 'quick']);
  });

  it('undoes what was just done', async () => {
    const acting = new Acting();
    const done: string[] = [];
    await acting.undoably(
      'Moved.',
      async () => done.push('there'),
      async () => done.push('back'),
    );
    expect(acting.done?.said).toBe('Moved.');
    await acting.undo();
    expect([done, acting.done]).toEqual([['there', 'back'], undefined]);
  });
});

it('puts an entry of a list at another place', () => {
  expect(moved(['a', 'b', 'c', 'd'], 0, 2)).toEqual(['b', 'c', 'a', 'd']);
  expect(moved(['a', 'b', 'c'], 2, 0)).toEqual(['c', 'a', 'b']);
});
