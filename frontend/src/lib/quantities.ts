// What is known of every quantity, from the rows of the core's own table (tools/describe_web.py writes them to docs/).
import rows from '../../../docs/quantities.json' with { type: 'json' };

export interface Quantity {
  /** Written as a time. */
  clock: boolean;
  /** Its limits stand in the picture of level. */
  on_ribbon: boolean;
  /** A level of what is heard between the words. */
  is_room: boolean;
  /** Of a production as a whole, and of none of its files. */
  of_package: boolean;
  /** What is said of a reading below what is allowed, and of one above it. */
  sides: string[];
}

const known: Record<string, Quantity | undefined> = rows;

/** One that this page does not know (any more) is a plain number. */
export function quantity(name: string): Quantity {
  return (
    known[name] ?? { clock: false, on_ribbon: false, is_room: false, of_package: false, sides: ['too low', 'too high'] }
  );
}
