<script lang="ts">
  // What gain alone can do, the one deed, and what came of it.
  import { getContext } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import type { RecordingDetail } from '../lib/api';
  import { number } from '../lib/format';
  import type { Live } from '../lib/live.svelte';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import GainWindowPicture from './GainWindowPicture.svelte';
  import History from './History.svelte';
  import Progress from './Progress.svelte';
  import StepLedger from './StepLedger.svelte';

  let { recording, acting }: { recording: RecordingDetail; acting: Acting } = $props();
  const live = getContext<Live>('live');
  const FORMATS = [
    ['asked', 'as the specification asks'],
    ['mp3', 'MP3, 192 kbit/s'],
    ['opus', 'Opus, 48 kHz'],
    ['wav', 'WAV master, 24 bit'],
    ['flac', 'FLAC master, 24 bit'],
  ] as const;
  const LEVELS = [
    ['light', 'light: least touch'],
    ['balanced', 'balanced'],
    ['even', 'even: alike in every chapter'],
  ] as const;
  let preference = $state<'light' | 'balanced' | 'even'>('balanced');
  let container = $state<'asked' | 'mp3' | 'opus' | 'wav' | 'flac'>('asked');

  const latest = $derived(recording.conformings[0]);
  const done = $derived(latest?.passes ? latest : undefined);
  const running = $derived(
    latest?.work && ['waiting', 'running'].includes(latest.work.state) ? latest.work : undefined,
  );
  const gain = $derived(done?.steps.find((step) => step.kind === 'gain')?.settings?.gain_db as number | undefined);
  const conform = () =>
    acting.conform(recording.id, { preference, container: container === 'asked' ? null : container });
</script>

<div class="column">
  {#if recording.window}<GainWindowPicture window={recording.window} {gain} />{/if}
  {#if running}
    {@const now = live.progress[running.id] ?? running}
    <Progress
      stage={now.stage || 'waiting'}
      fraction={now.fraction}
      about={recording.name}
      oncancel={() => acting.cancel(running.id)}
    />
  {:else}
    <div class="act">
      <Choice label="Format" value={container} options={FORMATS} onchange={(to) => (container = to)} />
      <Choice label="Level" value={preference} options={LEVELS} onchange={(to) => (preference = to)} />
      <Button strong={!done} onclick={conform}>{done ? 'Conform again' : 'Conform'}</Button>
    </div>
  {/if}
  {#if done && recording.inspection}
    <h2>What was done</h2>
    <StepLedger steps={done.steps} ledger={done.ledger} outOfOrder={done.out_of_order} before={recording.inspection} />
    <p class="soft">
      Touch {number(done.touch?.touch ?? 0, 0)} of 100{#if (done.touch?.depth_max_db ?? 0) > 0}: limited by {number(
          done.touch?.depth_p99_db ?? 0,
          1,
        )} dB at the 99th percentile of speech, {number(done.touch?.depth_max_db ?? 0, 1)} dB at the most{/if}.
    </p>
    <p class="downloads">
      <a href={`/api/conformings/${done.id}/file`} download>{done.file_name}</a>
      {#if done.certified}<a href={`/api/conformings/${done.id}/certificate`} download>Certificate</a><a
          href={`/api/conformings/${done.id}/certificate.pdf`}
          download>Certificate, printable</a
        >{/if}
    </p>
  {:else if latest?.obstacles.length}
    <h2 class="outside">Can't be conformed</h2>
    {#each latest.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
  {:else if latest?.work?.error}
    <p class="outside" role="alert">{latest.work.error}</p>
  {/if}
  {#if recording.conformings.length || recording.earlier.length}
    <h2>History</h2>
    <History {recording} />
  {/if}
</div>

<style>
  .column {
    padding: 10px 0 14px;
  }
  .column > :global(*:not(h2)) {
    margin-left: 14px;
    margin-right: 14px;
  }
  h2 {
    padding: 10px 14px;
    margin: 14px 0 10px;
    border: solid var(--rule);
    border-width: 1px 0;
  }
  .soft {
    color: var(--soft);
    font-size: 13.5px;
  }
  .outside {
    color: var(--outside);
  }
  .act {
    display: flex;
    flex-wrap: wrap;
    gap: 10px 14px;
    align-items: end;
    margin-top: 12px;
  }
  .downloads {
    margin-top: 8px;
  }
  .downloads a {
    margin-right: 14px;
  }
</style>
