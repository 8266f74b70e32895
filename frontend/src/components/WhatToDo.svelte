<script lang="ts">
  // What gain alone can do, the one deed, and what came of it.
  import { getContext } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import type { Conforming, ConformRequest, Format, RecordingDetail } from '../lib/api';
  import { number } from '../lib/format';
  import type { Live } from '../lib/live.svelte';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import GainWindowPicture from './GainWindowPicture.svelte';
  import History from './History.svelte';
  import Progress from './Progress.svelte';
  import StepLedger from './StepLedger.svelte';

  interface Props {
    recording: RecordingDetail;
    acting: Acting;
    /** The attempt that is looked at beside the recording. */
    done?: Conforming;
  }
  let { recording, acting, done }: Props = $props();
  const live = getContext<Live>('live');

  type Preference = ConformRequest['preference'];
  const LEVELS = [
    ['light', 'light: least touch'],
    ['balanced', 'balanced'],
    ['even', 'even: steady throughout'],
  ] as const satisfies [Preference, string][];
  let preference = $state<Preference>('balanced');
  let container = $state<Format['name']>('');

  const latest = $derived(recording.conformings[0]);

  const formats = $derived(
    recording.formats.map(
      ({ name, title, meets }) =>
        [name, name === '' ? `${title}, as asked` : meets ? title : `${title}, not as asked`] as const,
    ),
  );
  const chosen = $derived(formats.some(([name]) => name === container) ? container : (formats[0]?.[0] ?? ''));
  const running = $derived(
    latest?.work && ['waiting', 'running'].includes(latest.work.state) ? latest.work : undefined,
  );
  const gain = $derived(done?.steps.find((step) => step.kind === 'gain')?.settings?.gain_db as number | undefined);
  const conform = () => acting.conform(recording.id, { preference, container: chosen || null });

  // What the voice and what the room underwent; nothing where that was not told apart yet.
  function parts(touch: { voice?: number | null; room?: number | null } | null | undefined): string {
    if (touch?.voice == null || touch.room == null) return '';
    return ` (voice ${number(touch.voice, 0)}, room ${number(touch.room, 0)})`;
  }
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
      <Choice label="Format" value={chosen} options={formats} onchange={(to) => (container = to)} />
      <Choice label="Level" value={preference} options={LEVELS} onchange={(to) => (preference = to)} />
      <Button strong={!done?.current} onclick={conform}>{done?.current ? 'Conform again' : 'Conform'}</Button>
    </div>
  {/if}
  {#if latest !== done && latest?.current && latest.obstacles.length}
    <h2 class="outside">Can't be conformed</h2>
    {#each latest.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
  {:else if latest?.work?.error}
    <p class="outside" role="alert">{latest.work.error}</p>
  {/if}
  {#if done && recording.inspection}
    <h2>What was done</h2>
    {#if !done.current}
      <p class="near">
        Made for {done.made_for.name}, version {done.made_for.version}, so it does not count here. {done.certificate_for
          ? 'Its certificate is valid for that specification only.'
          : ''}
      </p>
    {/if}
    <StepLedger steps={done.steps} ledger={done.ledger} outOfOrder={done.out_of_order} before={recording.inspection} />
    <p class="soft">
      Touch {number(done.touch?.touch ?? 0, 0)} of 100{parts(done.touch)}{#if (done.touch?.depth_p99_db ?? 0) >= 0.05}:
        loud words lowered by {number(done.touch?.depth_p99_db ?? 0, 1)} dB, {number(done.touch?.depth_max_db ?? 0, 1)} dB
        at the most{/if}.
    </p>
    <p class="downloads">
      <a href={`/api/conformings/${done.id}/file`} download>{done.file_name}</a>
      {#if done.certificate_for}
        {@const what = done.certified ? 'Certificate' : `Certificate for ${done.certificate_for.name}`}
        <a href={`/api/conformings/${done.id}/certificate`} download>{what}</a><a
          href={`/api/conformings/${done.id}/certificate.pdf`}
          download>{what}, printable</a
        >{/if}
    </p>
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
  .near {
    color: var(--near);
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
