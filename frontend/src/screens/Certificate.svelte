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
    padding: var(--space-6) var(--space-7) var(--space-8);
    display: grid;
    grid-template-columns: minmax(0, 800px) minmax(240px, 320px);
    gap: var(--space-7);
  }
  .way {
    font-size: var(--type-plain);
    display: flex;
    gap: var(--space-6);
    margin-bottom: var(--space-4);
  }
  aside {
    padding-top: var(--space-7);
    display: grid;
    gap: var(--space-5);
    align-content: start;
  }
  .standing {
    font-size: var(--type-lead);
    font-weight: 600;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    display: grid;
    gap: var(--space-3);
  }
  .soft {
    font-size: var(--type-plain);
  }
  .acts {
    display: flex;
    gap: var(--space-4);
  }
</style>
