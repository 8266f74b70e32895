<script lang="ts">
  // What was made of a recording: the file, its certificate, how much it was altered, and what each step did.
  import type { Conforming, Inspection } from '../lib/api';
  import { number } from '../lib/format';
  import StepLedger from './StepLedger.svelte';
  interface Props {
    done: Conforming;
    before: Inspection;
  }
  let { done, before }: Props = $props();

  const figure = (value: number | null | undefined) => (value == null ? '–' : number(value, 1));
  // What the voice and what the room underwent; nothing where that was not told apart yet.
  const parts = $derived.by(() => {
    const { voice, room } = done.touch ?? {};
    return voice == null || room == null ? '' : ` (voice ${number(voice, 0)}, room ${number(room, 0)})`;
  });
</script>

<div class="outcome">
  {#if !done.current}
    <p class="near">
      Made for {done.made_for.name}, version {done.made_for.version}, so it does not count here. {done.certificate_for
        ? 'Its certificate is valid for that specification only.'
        : ''}
    </p>
  {/if}
  <p class="downloads">
    <a href={`/api/conformings/${done.id}/file`} download>{done.file_name}</a>
    {#if done.certificate_for}
      {@const what = done.certified ? 'Certificate' : `Certificate for ${done.certificate_for.name}`}
      <a href={`/api/conformings/${done.id}/certificate`} download>{what}</a><a
        href={`/api/conformings/${done.id}/certificate.pdf`}
        download>{what} (PDF)</a
      >{/if}
  </p>
  <p class="soft">
    By {done.made_by}. Touch {number(done.touch?.touch ?? 0, 0)} of 100{parts}{#if (done.touch?.depth_p99_db ?? 0) >= 0.05}:
      loud words lowered by {number(done.touch?.depth_p99_db ?? 0, 1)} dB, {number(done.touch?.depth_max_db ?? 0, 1)} dB at
      most{/if}.
  </p>
  {#if done.mix?.mix_lufs != null}
    <p class="soft">
      Voice {figure(done.mix.voice_lufs)} LUFS, bed {figure(done.mix.bed_lufs)} LUFS, together {figure(
        done.mix.mix_lufs,
      )} LUFS.{done.under?.said ? ` ${done.under.said}` : ''}
    </p>
  {/if}
  <StepLedger steps={done.steps} ledger={done.ledger} outOfOrder={done.out_of_order} {before} />
</div>

<style>
  .outcome {
    display: grid;
    gap: var(--space-4);
    padding: var(--space-4) var(--space-5) var(--space-5);
  }
  .downloads {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-6);
  }
  .soft {
    font-size: var(--type-plain);
  }
  .near {
    color: var(--near);
  }
</style>
