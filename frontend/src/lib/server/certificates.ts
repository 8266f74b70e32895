// What is asked about certificates and keys, and what is done with them.
import { keepPreviousData } from '@tanstack/svelte-query';
import { acts, api, got, type CertificateRow } from '../api';
import { asItIs } from '../json-file';
import { about, anyProduction, either, question, thing } from '../question';

const of = (certificate_id: string) => ({ params: { path: { certificate_id } } });

interface Listed {
  production: string;
  of: CertificateRow['of'] | '';
  stands: CertificateRow['stands'] | '';
  search: string;
  count: number;
}
/** Every certificate, or those that are looked for. */
export const all = ({ production, of, stands, search, count }: Listed) => ({
  ...question(['certificates', production, of, stands, search, count], anyProduction, () => {
    const query = { ...(production ? { production } : {}), ...(of ? { of } : {}), ...(stands ? { stands } : {}) };
    return got(api.GET('/api/certificates', { params: { query: { ...query, search, count } } }));
  }),
  placeholderData: keepPreviousData,
});

export const one = (id: string) =>
  question(['certificate', id], either(thing(id), anyProduction, about('keys')), () =>
    got(api.GET('/api/certificates/{certificate_id}', of(id))),
  );

export const keys = () => question(['keys'], about('keys'), () => got(api.GET('/api/keys')));

/** What came of a check. */
export const verifying = (id: string | undefined) => ({
  ...question(['verifying', id], thing(id), () =>
    got(api.GET('/api/verifyings/{verifying_id}', { params: { path: { verifying_id: id ?? '' } } })),
  ),
  enabled: Boolean(id),
});

export const withdraw = (id: string, reason: string, by: string) =>
  got(acts.POST('/api/certificates/{certificate_id}/withdraw', { ...of(id), body: { reason, by } }));
export const issueAgain = (id: string, reason: string) =>
  got(acts.POST('/api/certificates/{certificate_id}/issue-again', { ...of(id), body: { reason } }));

export const trust = async (file: File, name: string) =>
  got(acts.POST('/api/keys', { ...(await asItIs(file)), params: { query: { name } } }));
export const distrust = (fingerprint: string) =>
  got(acts.DELETE('/api/keys/{fingerprint}', { params: { path: { fingerprint } } }));
export const roll = () => got(acts.POST('/api/keys/roll'));

interface Checked {
  file_name: string | null;
  certificate_name: string;
  certificate: string;
  notices: string[];
}
export const verify = (body: Checked) => got(acts.POST('/api/verifyings', { body }));
