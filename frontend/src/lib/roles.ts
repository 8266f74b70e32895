// What people may do, in words.
import type { Role } from './api';

export const ROLES: readonly (readonly [Role, string, string])[] = [
  ['operator', 'Operator', 'brings recordings in, treats and delivers them'],
  ['reviewer', 'Reviewer', 'certifies, and withdraws certificates'],
  ['administrator', 'Administrator', 'sees to people, keys and settings'],
];
export const named = (roles: readonly Role[]): string =>
  ROLES.filter(([role]) => roles.includes(role))
    .map(([, name]) => name)
    .join(', ');
