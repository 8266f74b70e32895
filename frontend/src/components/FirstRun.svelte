<script lang="ts">
  // Where nothing is here yet: what this is, and the demo production one click away.
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import { Acting } from '../lib/acting.svelte';
  import { underWay } from '../lib/works';
  import * as installation from '../lib/server/installation';
  import Button from './Button.svelte';
  import Problem from './Problem.svelte';
  import UnderWay from './UnderWay.svelte';

  let { production }: { production: string | undefined } = $props();
  const acting = new Acting();
  const demo = createQuery(() => installation.demo());
  let asked = $state(false);
  const ask = () =>
    acting.attempt(async () => {
      asked = true;
      await installation.askForDemo();
    });
  // The sheet of the first of them opens as soon as it is there, and fills while one looks.
  $effect(() => {
    if (production && asked) void push(`/productions/${production}`);
  });
</script>

{#if production && demo.data && underWay(demo.data)}
  <div><UnderWay work={demo.data} about="the demo production" waiting="Queued" {acting} /></div>
{:else if !production}
  <section aria-label="First steps">
    <p>
      Ispettore measures voice recordings against a delivery specification, changes them as little as it takes to meet
      it, and certifies the result. Open the demo production to see that on ten chapters, each with a fault of its own.
      Or name a production of your own below, then drop your recordings on it.
    </p>
    {#if demo.data && underWay(demo.data)}
      <UnderWay work={demo.data} about="the demo production" waiting="Queued" {acting} />
    {:else}
      {#if demo.data?.error}<p class="wrong" role="alert">{demo.data.error}</p>{/if}
      <Button strong onclick={ask}>{demo.data?.error ? 'Try again' : 'Open the demo production'}</Button>
    {/if}
    <Problem {acting} />
    <Problem query={demo} />
  </section>
{/if}

<style>
  section {
    display: grid;
    gap: var(--space-5);
    justify-items: start;
    max-width: 720px;
    margin: var(--space-6) 0 var(--space-4);
    padding: var(--space-6) var(--space-6);
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  div {
    margin-top: var(--space-4);
  }
  .wrong {
    color: var(--outside);
  }
</style>
