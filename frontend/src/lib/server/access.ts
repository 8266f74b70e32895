// Who is let in, what somebody gets in by, the people here, and the trail of what was done.
import { keepPreviousData } from '@tanstack/svelte-query';
import { acts, api, got, type Right, type Role } from '../api';
import { about, question } from '../question';
import { added, chosen } from '../passkeys';

/** How one gets in here, and who this page is for. */
export const access = () => question(['access'], about('access'), () => got(api.GET('/api/access')));
export const account = () => question(['account'], about('access'), () => got(api.GET('/api/account')));
export const people = () => question(['people'], about('access'), () => got(api.GET('/api/people')));

/** Lines of the trail; looked at anew each time, as nearly every act adds one. */
export const trail = (search: string, count: number) => ({
  ...question(['trail', search, count], about('access'), () =>
    got(api.GET('/api/trail', { params: { query: { search, count } } })),
  ),
  placeholderData: keepPreviousData,
  staleTime: 0,
});

export const invitation = (secret: string) => ({
  ...question(['invitation', secret], about('access'), () =>
    got(api.POST('/api/access/invitation', { body: { secret } })),
  ),
  retry: false,
});

export const signIn = (sign_in: string, password: string) =>
  got(acts.POST('/api/access/sign-in', { body: { sign_in, password } }));
export const signInWithPasskey = async () => {
  const { challenge, options } = await got(acts.POST('/api/access/passkey/begin'));
  await got(acts.POST('/api/access/passkey', { body: { challenge, answer: await chosen(options) } }));
};
export const join = (secret: string, password: string) =>
  got(acts.POST('/api/access/join', { body: { secret, password } }));
export const signOut = () => got(acts.POST('/api/access/sign-out'));

export const changePassword = (old: string, fresh: string) =>
  got(acts.PUT('/api/account/password', { body: { old, new: fresh } }));
export const addPasskey = async (name: string) => {
  const { challenge, options } = await got(acts.POST('/api/account/passkeys/begin'));
  await got(acts.POST('/api/account/passkeys', { body: { challenge, answer: await added(options), name } }));
};
export const removePasskey = (passkey_id: string) =>
  got(acts.DELETE('/api/account/passkeys/{passkey_id}', { params: { path: { passkey_id } } }));
export const endSession = (session_id: string) =>
  got(acts.DELETE('/api/account/sessions/{session_id}', { params: { path: { session_id } } }));
export const makeToken = (name: string, rights: Exclude<Right, 'administer'>[], days: number) =>
  got(acts.POST('/api/account/tokens', { body: { name, rights, days } }));
export const endToken = (token_id: string) =>
  got(acts.DELETE('/api/account/tokens/{token_id}', { params: { path: { token_id } } }));

const of = (person_id: string) => ({ params: { path: { person_id } } });
export const invite = (sign_in: string, name: string, roles: Role[]) =>
  got(acts.POST('/api/people', { body: { sign_in, name, roles } }));
export const inviteAgain = (id: string) => got(acts.POST('/api/people/{person_id}/invitation', of(id)));
export const changePerson = (id: string, body: { roles?: Role[]; ended?: boolean }) =>
  got(acts.PATCH('/api/people/{person_id}', { ...of(id), body }));
