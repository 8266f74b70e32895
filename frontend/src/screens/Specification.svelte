<script lang="ts">
  // One specification: its limits as sentences, edited in place, its versions, and who is held against it.
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import Button from '../components/Button.svelte';
  import LimitLine from '../components/LimitLine.svelte';
  import Question from '../components/Question.svelte';
  import VersionList from '../components/VersionList.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { shortcuts, undoing } from '../lib/shortcuts.svelte';
  import { Draft, draftOf, forget, type DraftContent, type DraftLimit } from '../lib/draft.svelte';
  import { counted } from '../lib/format';
  import { meanings } from '../lib/methods';
  import * as specifications from '../lib/server/specifications';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const acting = new Acting();
  const known = meanings();
  const view = createQuery(() => specifications.one(params.id));
  let draft = $state<Draft>();
  // A draft belongs to one version. Another version starts another draft, unless it would take somebody's changes away.
  const newest = $derived(view.data?.specification.version);
  const overtaken = $derived(
    draft !== undefined && newest !== undefined && draft.view.specification.version !== newest && !draft.kept,
  );
  $effect(() => {
    const found = view.data;
    if (!found) return;
    const held = draft?.view.specification;
    if (held?.id !== found.specification.id) draft = draftOf(found);
    else if (held.version !== found.specification.version && (draft?.kept || !draft?.changed)) draft = draftOf(found);
  });
  const editable = $derived(view.data !== undefined && !view.data.ships && !view.data.removed);

  const TEXTS = [
    ['description', 'Purpose of the specification', 'Purpose'],
    ['source', 'Source of the limits', 'Source of the limits'],
  ] as const;
  const GROUPS = [
    ['recording', 'Every recording'],
    ['deliverable', 'Delivered file'],
    ['production', 'Whole production'],
  ] as const;
  const scope = (limit: DraftLimit) => limit.applies_to ?? 'recording';
  const general = $derived(draft?.objections.filter((objection) => objection.limits.length === 0) ?? []);
  const addable = $derived(
    [...(known.data?.quantities.values() ?? [])].filter(
      (quantity) =>
        !draft?.content.limits.some(
          (limit) =>
            limit.quantity === quantity.name && (scope(limit) !== 'production' || quantity.group === 'package'),
        ),
    ),
  );
  const ADDED_TO = {
    level: 'Level',
    between: 'Between the words',
    health: 'Recording faults',
    file: 'File',
    package: 'The package',
  };

  function add(name: string) {
    const quantity = known.data?.quantities.get(name);
    if (!quantity) return;
    draft?.change((content) => {
      content.limits.push({
        quantity: name,
        one_of: quantity.choices.slice(0, 1),
        low: quantity.first_low,
        high: quantity.first_high,
        guard: 0,
        guard_percent: 0,
        severity: 'must',
        applies_to: quantity.group === 'package' ? 'production' : 'recording',
        purpose: '',
      });
    });
  }

  async function bringBack(version: number) {
    await acting.attempt(async () => {
      const old = await specifications.version(params.id, version);
      draft?.change((content) => Object.assign(content, old as DraftContent, { version: content.version }));
    });
  }

  const keep = () => acting.attempt(async () => draft?.keep());
  function discard() {
    if (!view.data) return;
    forget(params.id);
    draft = new Draft(view.data);
  }

  let copying = $state<string>();
  const copy = () =>
    acting.attempt(async () => {
      const made = await specifications.copy(params.id, copying ?? '');
      copying = undefined;
      await push(`/specifications/${made.id}`);
    });

  let removing: HTMLDialogElement | undefined = $state();

  shortcuts(() => ({
    title: 'Specification',
    list: editable
      ? undoing(
          () => draft?.undo(),
          () => draft?.redo(),
        )
      : [],
  }));
</script>

<svelte:head><title>{draft?.content.name ?? 'Specification'} · Ispettore</title></svelte:head>
<main>
  {#if view.isError}
    <Problem query={view} />
  {:else if view.data && draft}
    <p class="crumb"><a href="#/specifications">Specifications</a></p>
    <div class="top">
      <div class="title">
        {#if editable}
          <h1 class="visually-hidden">{draft.content.name}</h1>
          <input
            class="name"
            aria-label="Name of the specification"
            maxlength="80"
            value={draft.content.name}
            oninput={(event) => {
              const name = event.currentTarget.value;
              draft?.change((content) => (content.name = name), 'name');
            }}
          />
          {#each TEXTS as [field, words, hint] (field)}
            <textarea
              class="description"
              rows="1"
              aria-label={words}
              placeholder={hint}
              maxlength="500"
              value={draft.content[field] ?? ''}
              oninput={(event) => {
                const text = event.currentTarget.value;
                draft?.change((content) => (content[field] = text), field);
              }}></textarea>
          {/each}
        {:else}
          <h1>{draft.content.name}</h1>
          <p class="soft">{draft.content.description}</p>
          <p class="soft">Source: {draft.content.source}.</p>
        {/if}
      </div>
      <div class="acts">
        {#if editable}
          <Button disabled={!draft.undoable} onclick={() => draft?.undo()}>Undo</Button>
          <Button disabled={!draft.redoable} onclick={() => draft?.redo()}>Redo</Button>
          {#if draft.changed}<Button onclick={discard}>Discard changes</Button>{/if}
          <Button strong disabled={!draft.changed || draft.blocked || overtaken} onclick={keep}
            >Save as version {view.data.specification.version + 1}</Button
          >
        {/if}
        {#if view.data.removed}<Button strong onclick={() => acting.attempt(() => specifications.restore(params.id))}
            >Restore</Button
          >
        {:else if !view.data.ships}<Button onclick={() => removing?.showModal()}>Remove…</Button>{/if}
        {#if copying === undefined}
          <Button strong={!editable} onclick={() => (copying = `Copy of ${draft?.content.name}`)}>Copy</Button>
        {:else}
          <form
            onsubmit={(event) => {
              event.preventDefault();
              void copy();
            }}
          >
            <input
              aria-label="Name of the copy"
              maxlength="80"
              bind:value={copying}
              {@attach (field) => {
                field.focus();
                field.select();
              }}
              onkeydown={(event) => event.key === 'Escape' && (copying = undefined)}
            />
            <Button strong disabled={!copying.trim()} onclick={copy}>Create copy</Button>
          </form>
        {/if}
      </div>
    </div>
    {#if view.data.ships}
      <p class="ships">This built-in specification can't be edited. Copy it to make changes.</p>
    {/if}
    {#if view.data.removed}
      <p class="ships">This specification was removed. Productions that use it keep it.</p>
    {/if}
    {#if !view.data.ships}
      <Question
        bind:element={removing}
        title={`Remove ${draft.content.name}`}
        meaning={view.data.productions.length
          ? `${view.data.productions.join(', ')} ${view.data.productions.length > 1 ? 'use' : 'uses'} it and will keep it; it can no longer be chosen for others. You can restore it under Removed, on the productions page.`
          : 'No production uses it. You can restore it under Removed, on the productions page.'}
        act="Remove specification"
        onact={() => {
          removing?.close();
          void acting.attempt(() => specifications.remove(params.id));
        }}
      />
    {/if}
    <Problem {acting} />
    {#if overtaken}
      <p class="problem" role="alert">
        Version {newest} was saved elsewhere in the meantime. Your changes to version {draft.view.specification.version} are
        still here but can't be saved; discard them to continue from the new version.
      </p>
    {/if}
    {#each general as objection (objection.sentence)}<p class="problem" role="alert">{objection.sentence}</p>{/each}

    <div class="columns">
      <div>
        {#each GROUPS as [group, words] (group)}
          {#if draft.content.limits.some((limit) => scope(limit) === group)}
            <section aria-label={words}>
              <h2>{words}</h2>
              <ul>
                {#each draft.content.limits as limit, index (index)}
                  {#if scope(limit) === group}
                    <LimitLine {draft} {index} {limit} {editable} method={known.data?.quantities.get(limit.quantity)} />
                  {/if}
                {/each}
              </ul>
            </section>
          {/if}
        {/each}
        {#if editable}
          <label class="add">
            Add a limit: <select
              value=""
              onchange={(event) => {
                add(event.currentTarget.value);
                event.currentTarget.value = '';
              }}
            >
              <option value="">Select a measurement…</option>
              {#each Object.entries(ADDED_TO) as [group, words] (group)}
                <optgroup label={words}>
                  {#each addable.filter((quantity) => quantity.group === group) as quantity (quantity.name)}
                    <option value={quantity.name}>{quantity.title}</option>
                  {/each}
                </optgroup>
              {/each}
            </select>
          </label>
          <label class="mono">
            <input
              type="checkbox"
              checked={draft.content.mono_on_two_loudspeakers ?? false}
              onchange={(event) => {
                const both = event.currentTarget.checked;
                draft?.change((content) => (content.mono_on_two_loudspeakers = both));
              }}
            />
            Loudness of mono is measured as played on two speakers (+3 LU)
          </label>
        {:else if draft.content.mono_on_two_loudspeakers}
          <p class="soft mono">Loudness of mono is measured as played on two speakers (+3 LU).</p>
        {/if}
      </div>
      <aside>
        <VersionList
          versions={view.data.versions.map(({ version, created_at, certificates }) => ({
            version,
            created_at,
            made: certificates ? counted(certificates, 'certificate') : '',
          }))}
          ships={view.data.ships}
          fileOf={(version) => `/api/specifications/${params.id}/${version}/file`}
          changesOf={(pair) => specifications.changes(params.id, pair)}
          onbringback={bringBack}
        />
        <section aria-label="Used by">
          <h2>Used by</h2>
          {#each view.data.productions as name, index (index)}
            <p>{name}</p>
          {:else}
            <p class="soft">No productions yet.</p>
          {/each}
          {#if editable && view.data.productions.length}
            <p class="soft small">Saving re-checks these productions; nothing is measured again.</p>
          {/if}
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
  }
  .acts,
  form {
    display: flex;
    gap: var(--space-4);
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
  form input {
    border: 1px solid var(--soft);
    border-radius: 3px;
    background: var(--sheet);
    padding: var(--space-2) var(--space-4);
    width: 240px;
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
  section + section,
  .add {
    margin-top: var(--space-6);
  }
  section > ul {
    margin: var(--space-3) 0 0;
    padding: 0;
    background: var(--sheet);
    border: 1px solid var(--rule);
    border-bottom: 0;
  }
  .add {
    display: block;
    font-size: var(--type-plain);
  }
  .add select {
    font-size: var(--type-plain);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: var(--space-2) var(--space-3);
    margin-left: var(--space-3);
  }
  .mono {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    margin-top: var(--space-5);
    font-size: var(--type-plain);
  }
  .small {
    font-size: var(--type-small);
    margin-top: var(--space-3);
  }
  @media (max-width: 1100px) {
    .columns {
      grid-template-columns: minmax(0, 1fr) 260px;
      gap: var(--space-6);
    }
    .top {
      flex-direction: column;
    }
  }
</style>
