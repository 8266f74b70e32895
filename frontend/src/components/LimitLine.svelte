<script lang="ts">
  import { quantity } from '../lib/quantities';
  // One limit of a specification as a sentence, with what it is for; edited in place where the specification is one's own.
  import type { Explained as Method, LimitSentence, Objection } from '../lib/api';
  import type { Draft, DraftLimit } from '../lib/draft.svelte';
  import BracketMark from './BracketMark.svelte';
  import Explained from './Explained.svelte';
  import LinkButton from './LinkButton.svelte';
  import WrittenNumber from './WrittenNumber.svelte';
  interface Props {
    draft: Draft;
    index: number;
    limit: DraftLimit;
    method: Method | undefined;
    editable: boolean;
  }
  let { draft, index, limit, method, editable }: Props = $props();
  const id = $props.id();
  const sentence = $derived<LimitSentence | undefined>(draft.sentenceOf(limit));
  const against = $derived<Objection[]>(draft.objections.filter((objection) => objection.limits.includes(index)));
  const blocked = $derived(against.some((objection) => objection.blocks));
  const title = $derived(method?.title ?? limit.quantity);
  const form = $derived(
    limit.low == null ? 'at most' : limit.high == null ? 'at least' : limit.low === limit.high ? 'exactly' : 'between',
  );

  const set = (what: (limit: DraftLimit) => void, key = '') =>
    draft.change(
      (content) => {
        const mine = content.limits[index];
        if (mine) what(mine);
      },
      key && `${index} ${key}`,
    );

  /** Another form of bound keeps the figure there is; what it lacks is set a tenth of the quantity's range apart. */
  function reshape(to: string) {
    const there = (typeof limit.low === 'number' ? limit.low : limit.high) as number;
    const apart = method ? (method.most - method.least) / 10 : 1;
    const low = (limit.low ?? Math.max(method?.least ?? there, there - apart)) as number;
    const high = (limit.high ?? Math.min(method?.most ?? there, there + apart)) as number;
    set((mine) => {
      mine.low =
        to === 'at most' ? null : to === 'exactly' ? there : to === 'between' && low === high ? low - apart : low;
      mine.high = to === 'at least' ? null : to === 'exactly' ? there : high;
    });
  }
  const percent = $derived(Number(limit.guard_percent ?? 0) > 0);
  const guardUnit = $derived(percent ? '%' : (method?.difference_unit ?? ''));
  const guard = $derived(percent ? limit.guard_percent : (limit.guard ?? 0));
</script>

<li class:blocked data-limit={limit.quantity}>
  <p class="sentence">
    {#each sentence?.pieces ?? [] as piece, at (piece.part === 'words' ? at : piece.part)}
      {#if piece.part === 'words' && at === 0 && piece.text.startsWith(title)}
        <Explained text={title} {method} />{piece.text.slice(title.length)}
      {:else if piece.part === 'words' || !editable}
        <span class={piece.part === 'words' ? '' : 'figure'}>{piece.text}</span>
      {:else if piece.part === 'choices'}
        {#each limit.one_of ?? [] as word, position (word)}
          {position ? ' or ' : ''}<span class="word"
            >{word}{#if (limit.one_of?.length ?? 0) > 1}<button
                type="button"
                aria-label={`${title}: remove ${word}`}
                onclick={() => set((mine) => (mine.one_of = mine.one_of?.filter((other) => other !== word)))}>×</button
              >{/if}</span
          >
        {/each}
        <select
          aria-label={`${title}: or`}
          value=""
          onchange={(event) => {
            const word = event.currentTarget.value;
            event.currentTarget.value = '';
            set((mine) => (mine.one_of = [...(mine.one_of ?? []), word]));
          }}
        >
          <option value="">or …</option>
          {#each (method?.choices ?? []).filter((word) => !limit.one_of?.includes(word)) as word (word)}<option
              value={word}>{word}</option
            >{/each}
        </select>
      {:else}
        {@const part = piece.part}
        <WrittenNumber
          label={`${title}, ${{ low: 'at least', high: 'at most', both: 'exactly' }[part]}`}
          value={part === 'high' ? limit.high : limit.low}
          quantity={limit.quantity}
          invalid={blocked}
          describedby={`${id}-against`}
          onwritten={(value) =>
            set((mine) => {
              if (part !== 'high') mine.low = value;
              if (part !== 'low') mine.high = value;
            }, part)}
          onemptied={() =>
            set((mine) => {
              if (part === 'low' && mine.high != null) mine.low = null;
              if (part === 'high' && mine.low != null) mine.high = null;
            })}
        />
      {/if}
    {:else}
      <Explained text={title} {method} />
    {/each}
  </p>
  {#if against.length}
    <p class="against" id={`${id}-against`} role="alert">
      {#each against as objection (objection.sentence)}
        <span class:warning={!objection.blocks}>
          <BracketMark position={objection.blocks ? 'over' : 'near'} size={12} silent />
          {objection.sentence}
        </span>
      {/each}
    </p>
  {/if}
  {#if editable}
    <div class="ways">
      <select
        aria-label={`${title}: severity`}
        value={limit.severity ?? 'must'}
        onchange={(event) => {
          const severity = event.currentTarget.value as 'must' | 'advice';
          set((mine) => (mine.severity = severity));
        }}
      >
        <option value="must">must be met</option>
        <option value="advice">advice</option>
      </select>
      {#if !quantity(limit.quantity).of_package}<select
          aria-label={`${title}: holds for`}
          value={limit.applies_to ?? 'recording'}
          onchange={(event) => {
            const scope = event.currentTarget.value as DraftLimit['applies_to'];
            set((mine) => {
              mine.applies_to = scope;
              if (scope === 'production') {
                mine.high = typeof mine.low === 'number' && typeof mine.high === 'number' ? mine.high - mine.low : 0;
                mine.low = null;
              }
            });
          }}
        >
          <option value="recording">every recording</option>
          <option value="deliverable">the delivered file</option>
          {#if !method?.choices.length}<option value="production">the whole production</option>{/if}
        </select>{/if}
      {#if !method?.choices.length && (limit.applies_to !== 'production' || quantity(limit.quantity).of_package)}
        <select aria-label={`${title}: bounds`} value={form} onchange={(event) => reshape(event.currentTarget.value)}>
          {#each ['at least', 'at most', 'between', 'exactly'] as one (one)}<option value={one}>{one}</option>{/each}
        </select>
      {/if}
      {#if !method?.choices.length}
        <span class="guard">
          Near when within
          <WrittenNumber
            label={`${title}: Near when within`}
            value={guard}
            onwritten={(value) =>
              set((mine) => (percent ? (mine.guard_percent = value) : (mine.guard = value)), 'guard')}
            onemptied={() => set((mine) => ((mine.guard = 0), (mine.guard_percent = 0)))}
          />
          <select
            aria-label={`${title}: unit of near`}
            value={guardUnit}
            onchange={(event) => {
              const toPercent = event.currentTarget.value === '%';
              set((mine) => {
                mine.guard = toPercent ? 0 : guard;
                mine.guard_percent = toPercent ? guard : 0;
              });
            }}
          >
            {#each method?.difference_unit === '%' ? ['%'] : [method?.difference_unit ?? '', '%'] as one (one)}<option
                value={one}>{one || 'whole'}</option
              >{/each}
          </select>
        </span>
      {/if}
      <span class="end"
        ><LinkButton onclick={() => draft.change((content) => content.limits.splice(index, 1))}
          >Remove<span class="visually-hidden"> {title}</span></LinkButton
        ></span
      >
    </div>
    <input
      class="purpose"
      aria-label={`${title}: purpose`}
      placeholder="Purpose"
      maxlength="500"
      value={limit.purpose ?? ''}
      oninput={(event) => {
        const purpose = event.currentTarget.value;
        set((mine) => (mine.purpose = purpose), 'purpose');
      }}
    />
  {:else}
    <p class="soft">
      {#if limit.severity === 'advice'}Advice.{/if}
      {limit.purpose}
      {#if Number(guard) > 0}<span class="near">Warns within {guard} {guardUnit} of the limit.</span>{/if}
    </p>
  {/if}
</li>

<style>
  li {
    list-style: none;
    padding: var(--space-5) var(--space-5);
    border-bottom: 1px solid var(--rule);
    display: grid;
    gap: var(--space-2);
  }
  .sentence {
    font-size: var(--type-lead);
    line-height: 1.6;
  }
  .figure {
    font-family: var(--figures);
    font-size: 0.95em;
  }
  .word {
    font-family: var(--figures);
    font-size: 0.9em;
    border-bottom: 1.5px solid var(--act);
    padding: 0 var(--space-1);
  }
  .word button {
    border: 0;
    background: none;
    color: var(--act);
    cursor: pointer;
    padding: 0 var(--space-2);
  }
  select {
    font-size: var(--type-small);
    color: var(--soft);
    background: var(--sheet);
    border: 0;
    border-bottom: 1px dotted var(--soft);
    padding: 1px var(--space-1);
    max-width: 200px;
  }
  .ways {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-6);
    align-items: baseline;
    font-size: var(--type-small);
    color: var(--soft);
  }
  .end {
    margin-left: auto;
  }
  .purpose {
    border: 0;
    border-bottom: 1px dotted transparent;
    background: none;
    font-size: var(--type-plain);
    color: var(--soft);
    padding: 0;
    width: 100%;
  }
  .purpose:hover,
  .purpose:focus {
    border-bottom-color: var(--soft);
  }
  .against {
    display: grid;
    gap: var(--space-2);
    font-size: var(--type-plain);
    color: var(--outside);
  }
  .against .warning {
    color: var(--near);
  }
  .soft {
    font-size: var(--type-plain);
  }
  .near {
    white-space: nowrap;
  }
</style>
