<script lang="ts">
  // One certificate: it looks like its print; beside it what can be done with it.
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import Button from '../components/Button.svelte';
  import CertificatePaper from '../components/CertificatePaper.svelte';
  import ReasonDialog from '../components/ReasonDialog.svelte';
  import Stands from '../components/Stands.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { listener } from '../lib/proof.svelte';
  import * as certificates from '../lib/server/certificates';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const query = createQuery(() => certificates.one(params.id));
  const view = $derived(query.data);
  const acting = new Acting();
  const at = $derived(`/api/certificates/${params.id}`);
  let withdrawing: HTMLDialogElement | undefined = $state();
  let again: HTMLDialogElement | undefined = $state();
  const KEYS = {
    own: 'the key in use here',
    retired: 'a key that was in use here',
    trusted: 'a key that is trusted here',
  };

  async function withdraw(reason: string) {
    await acting.attempt(() => certificates.withdraw(params.id, reason, listener()));
    if (!acting.problem) withdrawing?.close();
  }
  async function issue(reason: string) {
    const made = await acting.attempt(() => certificates.issueAgain(params.id, reason), { once: `again ${params.id}` });
    if (!made) return;
    again?.close();
    await push(`/certificates/${made.id}`);
  }
</script>

<svelte:head><title>Certificate of {view?.row.name ?? ''} · Ispettore</title></svelte:head>
<main>
  {#if query.isError}
    <Problem {query} />
  {:else if view}
    <div>
      <p class="way">
        <a href="#/certificates">Certificates</a>
        <a href={`#/productions/${view.row.production}`}>{view.row.production_name}</a>
      </p>
      <CertificatePaper {view} />
    </div>
    <aside aria-label="What can be done">
      <p class="standing"><Stands row={view.row} /></p>
      <ul>
        <li><a href={`${at}/printed.pdf`} download>PDF, with the certificate inside</a></li>
        <li><a href={`${at}/sealed.json`} download>Sealed certificate (JSON)</a></li>
        {#if view.row.stands !== 'stands'}
          <li><a href={`${at}/notice.json`} download>Notice of its end (JSON)</a></li>
        {/if}
      </ul>
      <p class="soft">
        Sealed by {view.key_role ? KEYS[view.key_role] : 'a key that is not known here'};
        <a href="#/certificates/keys">keys</a>.
        {#if view.methods}{view.methods}{/if}
        {#if view.replaces}<a href={`#/certificates/${view.replaces}`}>The certificate before it</a>.{/if}
      </p>
      <p class="soft">
        A certificate is never changed. It is withdrawn, or another takes its place, with a reason that everyone who
        checks it is told.
      </p>
      <div class="acts">
        {#if view.row.stands === 'stands' && view.row.recording}
          <Button onclick={() => again?.showModal()}>Issue again…</Button>
        {/if}
        {#if view.row.stands !== 'withdrawn'}
          <Button onclick={() => withdrawing?.showModal()}>Withdraw…</Button>
        {/if}
      </div>
    </aside>
    <ReasonDialog
      bind:element={withdrawing}
      title="Withdraw this certificate"
      meaning="This can't be undone. Whoever checks it here, or has its notice, is told when and why. The file stays."
      act="Withdraw"
      problem={acting.problem}
      onreason={withdraw}
    />
    <ReasonDialog
      bind:element={again}
      title="Issue this certificate again"
      meaning="The same measurement with what is known now: how far the file was checked by ear, accepted findings, who certifies it. This one is then superseded."
      act="Issue again"
      problem={acting.problem}
      onreason={issue}
    />
  {/if}
</main>

<style>
  main {
    padding: 16px 24px 40px;
    display: grid;
    grid-template-columns: minmax(0, 800px) minmax(240px, 320px);
    gap: 28px;
  }
  .way {
    font-size: 13.5px;
    display: flex;
    gap: 16px;
    margin-bottom: 8px;
  }
  aside {
    padding-top: 28px;
    display: grid;
    gap: 14px;
    align-content: start;
  }
  .standing {
    font-size: 17px;
    font-weight: 600;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    display: grid;
    gap: 6px;
  }
  .soft {
    color: var(--soft);
    font-size: 13.5px;
  }
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
