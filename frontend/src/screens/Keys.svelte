<script lang="ts">
  // The keys that seal certificates here, and those of others that are trusted.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import FileButton from '../components/FileButton.svelte';
  import Labelled from '../components/Labelled.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import Question from '../components/Question.svelte';
  import ListTable from '../components/ListTable.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { KeyView } from '../lib/api';
  import { counted, date } from '../lib/format';
  import * as certificates from '../lib/server/certificates';
  import Problem from '../components/Problem.svelte';

  const acting = new Acting();
  const query = createQuery(() => certificates.keys());
  const ROLES: Record<KeyView['role'], string> = {
    own: 'Seals here',
    retired: 'Sealed here before',
    trusted: 'Trusted',
  };
  let rolling: HTMLDialogElement | undefined = $state();
  let trusting: HTMLDialogElement | undefined = $state();
  let file = $state<File>();
  let whose = $state('');

  function take(files: File[]) {
    file = files[0];
    whose = file?.name.replace(/\.(pem|jwk|json)$/i, '') ?? '';
    acting.problem = '';
    if (file) trusting?.showModal();
  }
  async function trust() {
    await acting.attempt(async () => {
      if (!file) return;
      await certificates.trust(file, whose);
    });
    if (!acting.problem) trusting?.close();
  }
  async function roll() {
    await acting.attempt(certificates.roll);
    rolling?.close();
  }
  const distrust = (fingerprint: string) => acting.attempt(() => certificates.distrust(fingerprint));
</script>

<svelte:head><title>Keys · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Keys">
    {#snippet way()}<a href="#/certificates">Certificates</a>{/snippet}
    {#snippet told()}
      Certificates are sealed with a key of this installation. Hand out its public half: whoever trusts it can check
      them anywhere. Compare fingerprints by another way than the one a key came by.
    {/snippet}
    {#snippet acts()}
      <FileButton label="Public key to trust" accept=".pem,.jwk,.json" onchosen={({ files }) => take(files)}
        >Trust a key…</FileButton
      >
      <Button onclick={() => rolling?.showModal()}>Make a new key…</Button>
    {/snippet}
  </ScreenHead>
  {#if !trusting?.open}<Problem {acting} />{/if}
  {#if query.isError}
    <Problem {query} />
  {:else if query.data}
    {#each query.data.problems as problem (problem)}<p class="wrong">{problem}</p>{/each}
    <ListTable caption="Keys">
      <thead>
        <tr
          ><th scope="col">Whose</th><th scope="col">Fingerprint</th><th scope="col">Here</th><th scope="col">Since</th
          ><th scope="col">Sealed</th><th scope="col"><span class="visually-hidden">What can be done</span></th></tr
        >
      </thead>
      <tbody>
        {#each query.data.keys as key (key.fingerprint)}
          <tr data-role={key.role}>
            <th scope="row">{key.name[0]?.toUpperCase()}{key.name.slice(1)}</th>
            <td class="figure">{key.fingerprint}</td>
            <td>{ROLES[key.role]}</td>
            <td>{date(key.since)}</td>
            <td>{key.certificates ? counted(key.certificates, 'certificate') : ''}</td>
            <td
              ><span class="links"
                ><a href={`/api/keys/${key.fingerprint}.pem`} download>Public key</a>
                {#if key.role === 'trusted'}<LinkButton onclick={() => void distrust(key.fingerprint)}
                    >Trust no more</LinkButton
                  >{/if}</span
              ></td
            >
          </tr>
        {/each}
      </tbody>
    </ListTable>
  {/if}
  <Question
    title="Trust this key"
    meaning="Certificates sealed with it count as genuine here from now on. Make sure it is theirs: compare its fingerprint over the telephone, for example."
    act="Trust it"
    bind:element={trusting}
    disabled={!whose.trim()}
    problem={acting.problem}
    onact={trust}
  >
    <Labelled label="Whose it is"><input bind:value={whose} maxlength="80" /></Labelled>
  </Question>
  <Question
    title="Make a new key"
    meaning="New certificates are sealed with a new key; hand out its public half again. The private half of the old key is destroyed; what it sealed stays genuine."
    act="Make a new key"
    bind:element={rolling}
    onact={roll}
  />
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .wrong {
    color: var(--outside);
    margin: var(--space-3) 0;
  }
  [data-role='own'] th {
    font-weight: 600;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .links {
    display: flex;
    gap: var(--space-6);
  }
</style>
