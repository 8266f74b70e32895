<script lang="ts">
  // One watched folder: what is done with what lands there, and the newest of its files.
  import type { WatchedFolder } from '../lib/api';
  import { counted, date } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  import LinkButton from './LinkButton.svelte';
  import ListTable from './ListTable.svelte';
  let { folder, onstop }: { folder: WatchedFolder; onstop: () => void } = $props();
  const told = $derived(
    [
      counted(folder.count, 'file'),
      folder.left ? `${folder.left} left the folder` : '',
      folder.refused ? `${folder.refused} to look at` : '',
    ]
      .filter(Boolean)
      .join(', '),
  );
</script>

<article aria-label={folder.path}>
  <header>
    <h3>{folder.path}</h3>
    <LinkButton label={`Stop watching ${folder.path}`} onclick={onstop}>Stop watching…</LinkButton>
  </header>
  <p>
    What lands there comes into <a href={`#/productions/${folder.production_id}`}>{folder.production_name}</a>
    and is measured{folder.conform ? ', then conformed' : ''}.
    {#if folder.results}Results go to <code>{folder.results}</code>.{/if}
    {#if !folder.kept}Only a command watches it, while that runs.{/if}
  </p>
  {#if folder.problem}<p class="wrong"><BracketMark position="over" silent /> {folder.problem}</p>{/if}
  <p class="soft">{folder.count ? `${told}.` : 'Nothing came in yet.'}</p>
  {#if folder.files.length}
    <ListTable caption={`Files of ${folder.path}`}>
      <thead>
        <tr
          ><th scope="col">File</th><th scope="col">Came in</th><th scope="col">Result</th><th scope="col">Note</th></tr
        >
      </thead>
      <tbody>
        {#each folder.files as file (file.name)}
          <tr data-file={file.name}>
            <th scope="row"
              >{#if file.recording_id}<a href={`#/recordings/${file.recording_id}`}>{file.name}</a
                >{:else}{file.name}{/if}</th
            >
            <td class="when">{file.recording_id ? date(file.came_at) : ''}</td>
            <td>{file.result}</td>
            <td class:wrong={file.problem}
              >{file.problem}
              {#if file.left_at}Left the folder {date(file.left_at)}; the recording stays.{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </ListTable>
    {#if folder.count > folder.files.length}<p class="soft">And {folder.count - folder.files.length} earlier.</p>{/if}
  {/if}
</article>

<style>
  article {
    margin-top: var(--space-5);
  }
  header {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-5);
    align-items: baseline;
    justify-content: space-between;
  }
  h3,
  code {
    font-family: var(--figures);
    overflow-wrap: anywhere;
  }
  h3 {
    font-size: var(--type-text);
  }
  code {
    font-size: var(--type-small);
  }
  p {
    margin: var(--space-2) 0 var(--space-3);
  }
  .wrong {
    color: var(--outside);
  }
  .when {
    white-space: nowrap;
  }
  .soft {
    color: var(--soft);
    font-size: var(--type-plain);
  }
</style>
