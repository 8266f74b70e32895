// The columns of a sheet: a limit with what is known of its quantity.
import type { Explained, Limit } from './api';

export interface Column {
  limit: Limit;
  method: Explained | undefined;
  title: string;
  unit: string;
  decimals: number;
}
