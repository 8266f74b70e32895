<script lang="ts">
  // One file of a package: its number and title, its name, where it stands, and what encoding did to it.
  import type { Acting } from '../lib/acting.svelte';
  import type { DeliveryRow, Entry } from '../lib/api';
  import type { Delivering } from '../lib/delivering.svelte';
  import { number, size } from '../lib/format';
  import { underWay } from '../lib/works';
  import BracketMark from './BracketMark.svelte';
  import UnderWay from './UnderWay.svelte';
  interface Props {
    row: DeliveryRow;
    narrator: string;
    delivering: Delivering;
    acting: Acting;
    chosen: boolean;
    onchosen: (wanted: boolean) => void;
    /** Several lines were pasted into one field: they are meant for all. */
    onlines: (text: string) => void;
  }
  let { row, narrator, delivering, acting, chosen, onchosen, onlines }: Props = $props();
  const typed = $derived(delivering.typed?.names[row.recording]);
  const name = $derived(typed?.file_name ?? row.file_name);
  const problem = $derived(typed ? typed.problem : row.problem);
  const work = $derived(underWay(row.work));
  const change = (entry: Partial<Entry>) => void delivering.set([{ recording: row.recording, entry }]);
  const whole = (text: string, most: number) => {
    const value = Number(text.trim());
    return text.trim() === '' || !Number.isInteger(value) || value < 0 || value > most ? null : value;
  };
  function pasting(event: ClipboardEvent) {
    const text = event.clipboardData?.getData('text') ?? '';
    if (!/[\n\t]/.test(text.trim())) return;
    event.preventDefault();
    onlines(text);
  }
  const KINDS = [
    ['chapter', 'Chapter'],
    ['opening', 'Opening'],
    ['closing', 'Closing'],
    ['sample', 'Sample'],
  ] as const;
  const TOLD = ['rms_dbfs', 'true_peak_dbtp', 'noise_floor_dbfs'];
  const changes = $derived(
    TOLD.map((quantity) => row.effect?.changes.find((change) => change.quantity === quantity)).map((change) => {
      if (!change || change.before === null || change.after === null) return { figure: '–', said: '' };
      const off = change.after - change.before;
      const figure = `${off > 0 && number(off, 2) !== '0.00' ? '+' : ''}${number(off, 2)}`;
      return {
        figure,
        said: `${change.title}: ${number(change.before, 2)} ${change.unit} before encoding, ${number(change.after, 2)} ${change.unit} in the finished file`,
      };
    }),
  );
  const longer = $derived(row.effect?.longer_by ?? 0);
</script>

{#snippet counter(what: string, value: number | null | undefined, most: number, onchange: (to: number | null) => void)}
  <td class="short"
    ><input
      aria-label={`${what} of ${row.source}`}
      inputmode="numeric"
      maxlength={String(most).length}
      value={value ?? ''}
      onchange={(event) => onchange(whole(event.currentTarget.value, most))}
    /></td
  >
{/snippet}

<tr data-deliver={row.source} class:chosen>
  <td class="pick"
    ><input
      type="checkbox"
      aria-label={`Select ${row.source}`}
      checked={chosen}
      onchange={(event) => onchosen(event.currentTarget.checked)}
    /></td
  >
  <td class="kind"
    ><select
      aria-label={`Kind of ${row.source}`}
      value={row.entry.kind}
      onchange={(event) => {
        const kind = event.currentTarget.value as NonNullable<Entry['kind']>;
        change(kind === 'chapter' ? { kind } : { kind, number: null, part: null });
      }}
    >
      {#each KINDS as [kind, words] (kind)}<option value={kind}>{words}</option>{/each}
    </select></td
  >
  {@render counter('Number', row.entry.number, 9999, (number) => change({ number }))}
  {@render counter('Part', row.entry.part, 99, (part) => change({ part: part || null }))}
  <th scope="row" class="title"
    ><input
      aria-label={`Title of ${row.source}`}
      title={row.source}
      maxlength="200"
      value={row.entry.title}
      onpaste={pasting}
      onchange={(event) => change({ title: event.currentTarget.value.trim() })}
    /></th
  >
  <td class="narrator"
    ><input
      aria-label={`Narrator of ${row.source}`}
      maxlength="200"
      placeholder={narrator}
      value={row.entry.narrator}
      onchange={(event) => change({ narrator: event.currentTarget.value.trim() })}
    /></td
  >
  <td class="name"
    >{#if row.state === 'made' && !typed}<a href={`/api/deliverables/${row.deliverable}/file`} download>{name}</a
      >{:else}{name}{/if}{#if problem}<span class="wrong" role="note">{problem}</span>{/if}</td
  >
  <td class="state">
    {#if work}
      <UnderWay {work} about={row.source} {acting} />
    {:else if row.state === 'made'}
      <span class="links"
        ><BracketMark position="inside" silent />
        <a href={`#/certificates/${row.certificate}`}>Certified</a>
        <a href={`/api/certificates/${row.certificate}/printed.pdf`} download>PDF</a>
        <a href={`#/listen/deliverable/${row.deliverable}`}>Listen</a></span
      >
      {#if row.listened}<span class="why">{row.listened[0]?.toUpperCase()}{row.listened.slice(1)}</span>{/if}
    {:else if row.state === 'stuck'}
      <span class="wrong">{row.reason}</span> <a href={`#/recordings/${row.recording}`}>Bench</a>
    {:else if row.state === 'to make again'}
      <span class="near">To make again</span><span class="why">{row.reason}</span>
    {:else}
      <span class="soft">{row.reason || 'To make'}</span>
    {/if}
    {#if row.state === 'made' && row.corrections.length}
      <details>
        <summary>Written {row.corrections.length + 1} times</summary>
        {#each row.corrections as said (said)}<p>{said}</p>{/each}
      </details>
    {/if}
  </td>
  {#each changes as { figure, said }, at (at)}<td class="figure" title={said}>{row.deliverable ? figure : ''}</td
    >{/each}
  <td class="figure"
    >{row.deliverable && row.effect ? (longer ? `${longer > 0 ? '+' : ''}${number(longer, 0)}` : 'same') : ''}</td
  >
  <td class="figure">{row.size_bytes === null ? '' : size(row.size_bytes)}</td>
</tr>

<style>
  .chosen {
    background: var(--act-pale);
  }
  .pick {
    padding-left: var(--space-5);
    width: 30px;
  }
  input:not([type]) {
    width: 100%;
    border: 1px solid transparent;
    border-bottom: 1px dotted var(--edge);
    background: transparent;
    border-radius: 3px;
    padding: var(--space-2) var(--space-2);
    min-width: 0;
  }
  input:not([type]):is(:hover, :focus) {
    border-color: var(--soft);
    background: var(--sheet);
  }
  select {
    border: 1px solid transparent;
    border-bottom: 1px dotted var(--edge);
    background: transparent;
    border-radius: 3px;
    padding: var(--space-2) 0;
    font-size: var(--type-plain);
    width: 86px;
  }
  select:is(:hover, :focus) {
    border-color: var(--soft);
    background: var(--sheet);
  }
  input::placeholder {
    color: var(--soft);
  }
  .short {
    width: 46px;
  }
  .short input,
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
    text-align: right;
    white-space: nowrap;
  }
  .title {
    min-width: 150px;
  }
  .narrator {
    min-width: 110px;
  }
  .name {
    min-width: 180px;
    overflow-wrap: anywhere;
  }
  .state {
    width: 220px;
    font-size: var(--type-plain);
  }
  .wrong {
    color: var(--outside);
  }
  .name .wrong,
  .why {
    display: block;
    font-size: var(--type-small);
  }
  .why,
  .near {
    color: var(--near);
  }
  .links {
    display: flex;
    gap: var(--space-4);
    align-items: baseline;
  }
  details {
    font-size: var(--type-small);
    color: var(--soft);
  }
  summary {
    cursor: pointer;
  }
</style>
