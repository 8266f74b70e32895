<script lang="ts">
  // How long it is before the first word and after the last, and brought to another length.
  import type { LimitVerdict } from '../lib/api';
  import { exact } from '../lib/format';
  import { LONGEST_S, SHORTEST_S, type Ends } from '../lib/handles';
  import Button from './Button.svelte';
  import EditGroup from './EditGroup.svelte';
  import WrittenNumber from './WrittenNumber.svelte';
  interface Props {
    ends: Ends;
    limits: LimitVerdict[];
    onset: (wish: { head_s?: number; tail_s?: number }) => unknown;
  }
  let { ends, limits, onset }: Props = $props();
  type Written = number | string | undefined;
  let head = $state<Written>();
  let tail = $state<Written>();
  const valid = (value: Written) =>
    value === undefined || (typeof value === 'number' && value >= SHORTEST_S && value <= LONGEST_S);
  const changed = (value: Written, now: number) =>
    typeof value === 'number' && valid(value) && Math.abs(value - now) >= 0.005 ? value : undefined;
  const wish = $derived({ head_s: changed(head, ends.head), tail_s: changed(tail, ends.tail) });
  const ready = $derived(valid(head) && valid(tail) && (wish.head_s !== undefined || wish.tail_s !== undefined));
  const rounded = (seconds: number) => Number(seconds.toFixed(2));
  const allowed = (quantity: string) => {
    const { low, high } = limits.find((one) => one.quantity === quantity) ?? {};
    if (typeof low === 'number' && typeof high === 'number') return `, ${exact(low)} to ${exact(high)} s allowed`;
    if (typeof low === 'number') return `, at least ${exact(low)} s`;
    return typeof high === 'number' ? `, at most ${exact(high)} s` : '';
  };
  async function set() {
    await onset(wish);
    head = tail = undefined;
  }
</script>

<EditGroup label="Head and tail">
  <div class="line">
    <span
      >Before the first word <WrittenNumber
        label="Head in seconds"
        value={head ?? rounded(ends.head)}
        quantity="head_s"
        invalid={!valid(head)}
        onwritten={(to) => (head = to)}
        onemptied={() => (head = undefined)}
      /> s{allowed('head_s')}; after the last <WrittenNumber
        label="Tail in seconds"
        value={tail ?? rounded(ends.tail)}
        quantity="tail_s"
        invalid={!valid(tail)}
        onwritten={(to) => (tail = to)}
        onemptied={() => (tail = undefined)}
      /> s{allowed('tail_s')}.</span
    >
    <Button disabled={!ready} onclick={set}>Set head and tail</Button>
  </div>
  <p class="soft">
    On the ribbon, drag the words' beginning or end. What is too much is cut off; what is missing is room tone.
  </p>
</EditGroup>
