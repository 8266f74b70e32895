// What new work begins with here, as the settings say.
import { createQuery } from '@tanstack/svelte-query';
import type { Bounds, Preference } from './api';
import * as installation from './server/installation';

/** As it is where nobody set anything. */
export const STANDARD: Required<Bounds> = {
  limiting_db: 6,
  compression_db: 10,
  ratio: 4,
  riding_db: 6,
  noise_reduction_db: 12,
  pauses_db: 18,
};

/** What is usual here for plans. */
export interface Usual {
  preference: Preference;
  bounds: Required<Bounds>;
}

export const defaults = () => createQuery(() => installation.defaults());
