<script lang="ts">
  // One saved treatment: its steps as sentences, edited in place, its versions, and where it was used.
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import Button from '../components/Button.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import StepSentence from '../components/StepSentence.svelte';
  import VersionList from '../components/VersionList.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { Finish } from '../lib/api';
  import { counted, date, exact } from '../lib/format';
  import { KeptDraft } from '../lib/kept-draft.svelte';
  import * as treatments from '../lib/server/treatments';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const acting = new Acting();
  const view = createQuery(() => treatments.one(params.id));
  let draft = $state<KeptDraft>();
  const overtaken = $derived(
    draft?.changed && view.data && draft.view.treatment.revision !== view.data.treatment.revision,
  );
  $effect(() => {
    const found = view.data;
    if (!found) return;
    const held = draft?.view.treatment;
    if (held?.id !== found.treatment.id || (held?.revision !== found.treatment.revision && !draft?.changed))
      draft = new KeptDraft(found);
  });
  const editable = $derived(view.data !== undefined && !view.data.ships && !view.data.removed);
  const FINISHES: readonly (readonly [Finish, string])[] = [
    ['planned', 'set for each recording, so that it meets its specification'],
    ['given', 'as the steps above leave them'],
  ];

  const save = () => acting.attempt(async () => draft?.save());
  const copy = () =>
    acting.attempt(async () => {
      const made = await treatments.copy(params.id, `Copy of ${view.data?.treatment.name ?? ''}`);
      await push(`/treatments/${made.id}`);
    });
  const remove = () => acting.attempt(() => treatments.remove(params.id));
  const restore = () => acting.attempt(() => treatments.restore(params.id));
  /** An older version becomes the next one, to be saved as such. */
  const bringBack = (version: number) =>
    acting.attempt(async () => {
      const older = await treatments.version(params.id, version);
      const found = await treatments.examine(older.steps ?? []);
      if (!view.data) return;
      draft = new KeptDraft({ ...view.data, ...found });
      draft.write({ name: older.name, description: older.description ?? '', finish: older.finish ?? 'given' });
    });
</script>

<svelte:head><title>{draft?.content.name ?? 'Treatment'} · Ispettore</title></svelte:head>
<main>
  {#if view.isError}
    <Problem query={view} />
  {:else if view.data && draft}
    <p class="crumb"><a href="#/treatments">Treatments</a></p>
    <div class="top">
      <div class="title">
        {#if editable}
          <h1 class="visually-hidden">{draft.content.name}</h1>
          <input
            class="name"
            aria-label="Name of the treatment"
            maxlength="80"
            value={draft.content.name}
            oninput={(event) => draft?.write({ name: event.currentTarget.value })}
          />
          <textarea
            class="description"
            rows="1"
            aria-label="Description"
            placeholder="Purpose"
            maxlength="2000"
            value={draft.content.description}
            oninput={(event) => draft?.write({ description: event.currentTarget.value })}></textarea>
        {:else}
          <h1>{draft.content.name}</h1>
          <p class="soft">{draft.content.description}</p>
        {/if}
      </div>
      <div class="acts">
        {#if view.data.removed}<Button strong onclick={restore}>Restore</Button>
        {:else if editable}
          {#if draft.changed}<Button onclick={() => view.data && (draft = new KeptDraft(view.data))}
              >Discard changes</Button
            >{/if}
          <Button strong disabled={!draft.changed || !draft.ready || overtaken} onclick={save}
            >Save as version {(view.data.treatment.revision ?? 1) + 1}</Button
          >
          <Button onclick={remove}>Remove</Button>
        {/if}
        <Button strong={view.data.ships} onclick={copy}>Copy</Button>
      </div>
    </div>
    {#if view.data.ships}
      <p class="ships">A starting point that is built in. Apply it as it is, or copy it to make it your own.</p>
    {:else if view.data.removed}
      <p class="ships">This treatment was removed. Files made with it are kept.</p>
    {/if}
    <Problem {acting} />
    {#if overtaken}
      <p class="problem" role="alert">
        Another version was saved elsewhere in the meantime. Discard your changes to continue from it.
      </p>
    {/if}

    <div class="columns">
      <div>
        <section aria-label="Steps">
          <h2>Steps</h2>
          <ol>
            {#each draft.steps as step, index (step.id)}
              {#if draft.reference === index}
                <li class="missing">
                  <span>
                    A reference level is missing here: the next step means one level of the voice{draft.view.treatment
                      .voice_dbfs !== null && draft.view.treatment.voice_dbfs !== undefined
                      ? ` (it was set for ${exact(draft.view.treatment.voice_dbfs)} dBFS)`
                      : ''}, and finds another in each recording.
                    {#if editable}<LinkButton onclick={() => draft?.putReference()}>Add one</LinkButton>{/if}
                  </span>
                </li>
              {/if}
              <li class:off={!step.on} data-step={step.kind}>
                <span class="number">{index + 1}.</span>
                <div class="said" inert={!editable}>
                  <StepSentence
                    {step}
                    pieces={step.reading.pieces}
                    onset={async (where, value) => draft?.set(step.id, where, value)}
                  />
                  {#if step.reading.further?.length}
                    <p class="further">
                      <StepSentence
                        {step}
                        pieces={step.reading.further}
                        onset={async (where, value) => draft?.set(step.id, where, value)}
                      />
                    </p>
                  {/if}
                  {#each step.reading.entries ?? [] as entry (entry.path)}
                    <p class="further">
                      <StepSentence
                        {step}
                        pieces={entry.pieces}
                        onset={async (where, value) => draft?.set(step.id, where, value)}
                      />
                    </p>
                  {/each}
                  {#if step.reason}<p class="soft">{step.reason}</p>{/if}
                  {#each step.problems ?? [] as said (said)}<p class="problem">{said}</p>{/each}
                  {#if step.order}<p class="order">{step.order}</p>{/if}
                </div>
                {#if editable}
                  <span class="acts small">
                    <LinkButton
                      onclick={() => draft?.turn(step.id)}
                      label={`${step.reading.title} on`}
                      pressed={step.on}>{step.on ? 'on' : 'off'}</LinkButton
                    >
                    <LinkButton onclick={() => draft?.remove(step.id)} label={`Remove ${step.reading.title}`}
                      >Remove</LinkButton
                    >
                  </span>
                {/if}
              </li>
            {:else}
              <li class="soft">No steps of its own.</li>
            {/each}
            <li class="finish">
              <span class="number"></span>
              <p>
                Level, peaks and ends:
                {#if editable}
                  <select
                    aria-label="Level, peaks and ends"
                    value={draft.content.finish}
                    onchange={(event) => draft?.write({ finish: event.currentTarget.value as Finish })}
                  >
                    {#each FINISHES as [finish, words] (finish)}<option value={finish}>{words}</option>{/each}
                  </select>
                {:else}{FINISHES.find(([finish]) => finish === draft?.content.finish)?.[1]}{/if}.
                {#if draft.content.finish === 'planned'}
                  <span class="soft">Repair and cleaning that a limit requires are added as well.</span>
                {/if}
              </p>
            </li>
          </ol>
          {#if editable}<p class="soft small">
              To add steps or change their order, use it on a recording and save it from there.
            </p>{/if}
        </section>
      </div>
      <aside>
        <VersionList
          versions={view.data.versions.map(({ version, created_at, runs }) => ({
            version,
            created_at,
            made: runs ? counted(runs, 'run') : '',
          }))}
          ships={view.data.ships}
          fileOf={(version) => `/api/treatments/${params.id}/${version}/file`}
          changesOf={(pair) => treatments.changes(params.id, pair)}
          onbringback={bringBack}
        />
        <section aria-label="Where it was used">
          <h2>Where it was used</h2>
          <ul>
            {#each view.data.uses as use (`${use.recording_id} ${use.version}`)}
              <li>
                <a href={`#/recordings/${use.recording_id}`}>{use.recording}</a>
                <span class="soft"
                  >{use.production}, version {use.version}{use.changed ? ', changed' : ''}{use.certified
                    ? ', certified'
                    : ''}, {date(use.at)}</span
                >
              </li>
            {:else}
              <li class="soft">Nowhere yet. Select recordings on a sheet to apply it to them.</li>
            {/each}
          </ul>
        </section>
      </aside>
    </div>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .crumb {
    font-size: var(--type-plain);
  }
  .top {
    display: flex;
    justify-content: space-between;
    align-items: start;
    gap: var(--space-7);
    margin: var(--space-2) 0 var(--space-5);
  }
  .title {
    flex: 1;
    display: grid;
    gap: var(--space-1);
    max-width: 90ch;
  }
  .acts {
    display: flex;
    gap: var(--space-4);
    align-items: start;
  }
  .name,
  .description {
    border: 0;
    border-bottom: 1px dotted transparent;
    background: none;
    padding: 0;
    width: 100%;
    font: inherit;
    resize: none;
    field-sizing: content;
  }
  .name {
    font-size: var(--type-title);
    font-weight: 600;
    letter-spacing: -0.01em;
  }
  .description {
    color: var(--soft);
  }
  .name:hover,
  .description:hover,
  .name:focus,
  .description:focus {
    border-bottom-color: var(--soft);
  }
  .ships {
    margin-bottom: var(--space-5);
  }
  .problem {
    color: var(--outside);
    margin-bottom: var(--space-4);
  }
  .columns {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 330px;
    gap: var(--space-8);
    align-items: start;
  }
  aside {
    display: grid;
    gap: var(--space-6);
  }
  ol,
  ul {
    list-style: none;
    margin: var(--space-3) 0 0;
    padding: 0;
  }
  ol {
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-bottom: 0;
  }
  ol > li {
    display: flex;
    gap: var(--space-3);
    padding: var(--space-4) var(--space-5);
    border-bottom: 1px solid var(--rule);
    font-size: var(--type-text);
    line-height: 1.6;
  }
  .number {
    flex: none;
    width: 22px;
    font-family: var(--figures);
    font-size: var(--type-small);
    color: var(--soft);
    line-height: 1.9;
  }
  .said {
    flex: 1;
    min-width: 0;
  }
  .said[inert] :global(:is(button, select, input)) {
    border-color: transparent;
  }
  .further,
  .said .soft {
    font-size: var(--type-plain);
  }
  .order,
  .missing {
    color: var(--near);
    font-size: var(--type-plain);
  }
  .missing span {
    padding-left: var(--space-7);
  }
  .off .said {
    opacity: 0.55;
  }
  .finish {
    background: color-mix(in srgb, var(--paper) 55%, var(--sheet));
  }
  .finish select {
    font-size: var(--type-text);
    border: 0;
    border-bottom: 1px dotted var(--soft);
    background: none;
    max-width: 100%;
  }
  .small {
    font-size: var(--type-small);
    margin-top: var(--space-3);
  }
  aside li {
    padding: var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
    font-size: var(--type-plain);
  }
  aside li span {
    display: block;
    font-size: var(--type-small);
  }
  @media (max-width: 1100px) {
    .columns {
      grid-template-columns: minmax(0, 1fr) 260px;
      gap: var(--space-6);
    }
  }
</style>
