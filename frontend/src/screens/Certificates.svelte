<script lang="ts">
  // Every certificate of this installation, the newest first.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import Labelled from '../components/Labelled.svelte';
  import ListTable from '../components/ListTable.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import Stands from '../components/Stands.svelte';
  import type { CertificateRow } from '../lib/api';
  import { counted, date } from '../lib/format';
  import * as certificates from '../lib/server/certificates';
  import Problem from '../components/Problem.svelte';

  const PAGE = 100;
  type Standing = CertificateRow['stands'];
  let production = $state('');
  let of = $state<CertificateRow['of'] | ''>('');
  let stands = $state<Standing | ''>('');
  let search = $state('');
  let count = $state(PAGE);
  const query = createQuery(() => certificates.all({ production, of, stands, search, count }));
  const found = $derived(query.data);
  const OF = { attempt: 'Version', deliverable: 'Delivered file', production: 'Production' };
  const PLACES: readonly (readonly [CertificateRow['of'] | '', string])[] = [
    ['', 'Everything'],
    ['deliverable', 'Delivered files'],
    ['production', 'Productions'],
    ['attempt', 'Versions'],
  ];
  const STANDS: readonly (readonly [Standing | '', string])[] = [
    ['', 'All'],
    ['stands', 'Valid'],
    ['superseded', 'Superseded'],
    ['withdrawn', 'Withdrawn'],
  ];
  const wanted = $derived(production || of || stands || search);
</script>

<svelte:head><title>Certificates · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="Certificates">
    {#snippet told()}
      {#if found}{counted(found.total, 'certificate')}{wanted ? ' shown' : ''}.{/if} Each can be checked by anyone, without
      this program.
    {/snippet}
    {#snippet acts()}<a href="#/certificates/keys">Keys</a>{/snippet}
  </ScreenHead>
  <div class="choices">
    <Choice
      label="Production"
      value={production}
      options={[['', 'All'], ...Object.entries(found?.productions ?? {})]}
      onchange={(to) => (production = to)}
    />
    <Choice label="Of" value={of} options={PLACES} onchange={(to) => (of = to)} />
    <Choice label="Status" value={stands} options={STANDS} onchange={(to) => (stands = to)} />
    <Labelled label="Name or SHA-256 of a certificate"
      ><input type="search" bind:value={search} maxlength="200" /></Labelled
    >
  </div>
  {#if query.isError}
    <Problem {query} />
  {:else if found && found.rows.length}
    <ListTable caption="Certificates">
      <thead>
        <tr>
          <th scope="col">Of</th><th scope="col">What</th><th scope="col">Production</th><th scope="col"
            >Specification</th
          >
          <th scope="col">Issued</th><th scope="col">Certified by</th><th scope="col">Status</th>
        </tr>
      </thead>
      <tbody>
        {#each found.rows as row (row.id)}
          <tr>
            <th scope="row"
              ><a href={`#/certificates/${row.id}`}>{row.name}</a><span class="hash">{row.sha256.slice(0, 16)}…</span
              ></th
            >
            <td class="when">{OF[row.of]}</td>
            <td><a href={`#/productions/${row.production}`}>{row.production_name}</a></td>
            <td>{row.specification.name}, version {row.specification.version}</td>
            <td class="when">{date(row.issued_at)}</td>
            <td>{row.certified_by}</td>
            <td class="stands"
              ><Stands {row} />{#if row.reason}<span class="why">{row.reason}</span>{/if}{#if row.older_methods}<span
                  class="why">older methods</span
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </ListTable>
    {#if found.rows.length < found.total}
      <p class="more"><Button onclick={() => (count += PAGE)}>Show more</Button></p>
    {/if}
  {:else if found}
    <p class="soft none">
      {wanted
        ? 'No certificate matches.'
        : 'No certificates yet. A file that meets its specification is certified as soon as it is made.'}
    </p>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .why,
  .hash {
    color: var(--soft);
  }
  .choices {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-6);
    align-items: end;
    margin: var(--space-5) 0;
  }
  .choices input {
    max-width: 100%;
    width: 260px;
  }
  .hash {
    display: block;
    font-family: var(--figures);
    font-size: var(--type-fine);
  }
  .why {
    display: block;
    font-size: var(--type-small);
  }
  .stands {
    max-width: 220px;
  }
  .when {
    white-space: nowrap;
  }
  .more,
  .none {
    margin-top: var(--space-5);
  }
</style>
