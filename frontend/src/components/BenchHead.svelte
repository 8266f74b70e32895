<script lang="ts">
  // Which recording is on the bench, its verdict as it is looked at, where it stands and what to do next; and what is odd about it.
  import type { Acting } from '../lib/acting.svelte';
  import type { RecordingDetail } from '../lib/api';
  import { clock, facts } from '../lib/format';
  import { underWay } from '../lib/works';
  import BracketMark from './BracketMark.svelte';
  import Button from './Button.svelte';
  import LinkButton from './LinkButton.svelte';
  import NameHeading from './NameHeading.svelte';
  import Problem from './Problem.svelte';
  interface Props {
    recording: RecordingDetail;
    acting: Acting;
    /** What the verdict is of: the recording, the file that was made, or what a draft is expected to make. */
    of: 'recording' | 'treated' | 'expected';
    passes: boolean | undefined;
    /** Which version it is of, where two are compared. */
    version?: string;
    onuseagain: () => void;
  }
  let { recording: it, acting, of, passes, version, onuseagain }: Props = $props();
  let renaming = $state(false);
  const WORDS = { recording: '', treated: 'Processed: ', expected: 'Expected: ' };
  const said = $derived.by(() => {
    const word = passes ? 'Inside' : 'Outside';
    if (version) return `${version.charAt(0).toUpperCase()}${version.slice(1)}: ${word.toLowerCase()}`;
    return of === 'recording' ? word : `${WORDS[of]}${word.toLowerCase()}`;
  });
</script>

<div class="top">
  <p class="back"><a href={`#/productions/${it.production_id}`}>{it.production_name}</a></p>
  <NameHeading
    name={it.name}
    label="Name of the recording"
    bind:renaming
    longest={250}
    onrename={(name) => acting.rename(it.id, name)}
  />
  {#if !renaming}<LinkButton onclick={() => (renaming = true)}>Rename</LinkButton>{/if}
  {#if it.facts}<p class="soft">
      {facts(it.facts)}, {clock(it.facts.duration_s)}{it.edited ? ', edited' : ''}. Download report:
      <a href={`/api/recordings/${it.id}/report.pdf`} download>PDF</a>,
      <a href={`/api/recordings/${it.id}/report.html`} download>HTML</a>
    </p>{/if}
  {#if it.verdict}
    <p class="verdict" class:outside={!passes}>
      <BracketMark position={passes ? 'inside' : 'over'} size={18} silent />
      {said}
      {it.specification.name}
    </p>
  {/if}
</div>
{#if it.stands}<p class="stands" role="group" aria-label="Summary">{it.stands}</p>{/if}
<Problem {acting} />
{#if it.verdict && (it.older_methods || it.work?.state === 'failed' || it.work?.state === 'cancelled')}
  <p class="older">
    {it.older_methods ? 'These readings were taken with an older method.' : ''}
    {#if underWay(it.work)}
      They are being measured again.
    {:else}
      {it.work?.state === 'failed' ? `Measuring again failed: ${it.work.error}` : ''}
      {it.work?.state === 'cancelled' ? 'Measuring again was cancelled.' : ''}
      <Button onclick={() => acting.measure(it.id)}>Measure again</Button>
    {/if}
  </p>
{/if}
{#if it.replaced_by}
  <p class="replaced">
    Replaced by <a href={`#/recordings/${it.replaced_by}`}>{it.replaced_by_name}</a>.
    <Button onclick={onuseagain}>Switch back to this version</Button>
  </p>
{/if}

<style>
  .top {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-1) var(--space-5);
    align-items: baseline;
  }
  .back,
  .soft {
    font-size: var(--type-plain);
  }
  .stands {
    font-size: var(--type-lead);
    margin: var(--space-2) 0 var(--space-4);
  }
  .older {
    color: var(--near);
  }
  .older,
  .replaced {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    margin-bottom: var(--space-5);
  }
  .verdict {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    margin-left: auto;
    font-weight: 600;
    color: var(--inside);
  }
  .outside,
  .verdict.outside {
    color: var(--outside);
  }
</style>
