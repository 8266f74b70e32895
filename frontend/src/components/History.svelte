<script lang="ts">
  // What happened to a recording, the newest first.
  import type { Conforming, RecordingDetail } from '../lib/api';
  import { madeBy } from '../lib/attempts';

  let { recording }: { recording: RecordingDetail } = $props();
  /** What an attempt was made for, where that is not the specification of now. */
  const elsewhere = ({ current, made_for }: Conforming, word: 'for' | 'to') =>
    current ? '' : ` ${word} ${made_for.name}, version ${made_for.version}`;
  const at = (time: string) => new Date(time).toLocaleString('en-GB');
</script>

<ol class="history" reversed>
  {#each recording.conformings as attempt (attempt.id)}
    <li>
      <span class="figure">{at(attempt.created_at)}</span>
      {attempt.container.toUpperCase()}, {madeBy(attempt)}:
      {#if attempt.sha256}
        <a href={`/api/conformings/${attempt.id}/file`} download
          >{attempt.certificate_for ? 'certified' : 'conformed'}</a
        >{elsewhere(attempt, 'for')}{#if attempt.certificate_for},
          <a href={`/api/conformings/${attempt.id}/certificate`} download>certificate</a>{/if}
      {:else if attempt.refused}
        can't be conformed{elsewhere(attempt, 'to')}
      {:else}
        {attempt.work?.state ?? ''}
      {/if}
    </li>
  {/each}
  <li><span class="figure">{at(recording.created_at)}</span> brought in</li>
  {#each recording.earlier as older (older.id)}
    <li>
      <span class="figure">{at(older.created_at)}</span>
      took the place of <a href={`#/recordings/${older.id}`}>{older.name}</a>
    </li>
  {/each}
</ol>

<style>
  ol {
    margin: 0;
    padding-left: 20px;
    font-size: 13.5px;
  }
  li {
    margin-bottom: 6px;
  }
  .figure {
    font-family: var(--figures);
    font-size: 12.5px;
    color: var(--soft);
  }
</style>
