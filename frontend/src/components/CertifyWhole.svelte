<script lang="ts">
  // The certificate of a production: what is missing for it, whether it is of the files there are now, and issuing it.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Acting } from '../lib/acting.svelte';
  import BracketMark from './BracketMark.svelte';
  import Button from './Button.svelte';
  import Field from './Field.svelte';
  import type { Delivering } from '../lib/delivering.svelte';
  import * as server from '../lib/server/access';
  import * as productions from '../lib/server/productions';
  interface Props {
    production: string;
    by: string;
    acting: Acting;
    delivering: Delivering;
  }
  let { production, by, acting, delivering }: Props = $props();
  const query = createQuery(() => productions.certified(production));
  const found = $derived(query.data);
  const access = createQuery(() => server.access());
  const me = $derived(access.data?.me);
  const certify = () => acting.attempt(() => productions.certify(production), { once: `certify ${production}` });
</script>

<section aria-label="Certificate of the production">
  {#if me?.name}
    <p>Certificates name who is signed in and asks for them: here <b>{me.name}</b>.</p>
  {:else}
    <Field
      label="Certified by"
      value={by}
      placeholder="Your name, shown on certificates"
      onchange={(to) => void delivering.change({ certified_by: to })}
    />
  {/if}
  {#if found}
    <p>
      {#if found.certificate && found.current}
        <BracketMark position="inside" silent />
        <a href={`#/certificates/${found.certificate}`}>The production is certified</a>; the package carries it.
        {#if found.more}<span class="soft">More is known now than it states.</span>{/if}
      {:else}
        {#if found.certificate}<span class="near"
            >Its <a href={`#/certificates/${found.certificate}`}>certificate</a> is of what was there before.</span
          >{/if}
        <span class="soft">{found.problem || 'Every file is made and every limit on the production is met.'}</span>
      {/if}
    </p>
    {#if (!found.current || found.more) && !found.problem}
      <Button strong={!found.current} onclick={certify}
        >{found.certificate ? 'Certify it again' : 'Certify the production'}</Button
      >
    {/if}
  {/if}
</section>

<style>
  section {
    display: flex;
    gap: var(--space-7);
    align-items: end;
    margin: var(--space-4) 0 var(--space-5);
    padding: var(--space-4) var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  section > :global(label) {
    width: 260px;
  }
  p {
    flex: 1;
    padding-bottom: var(--space-2);
  }
  .near {
    color: var(--near);
  }
</style>
