<script lang="ts">
  // One setting of a step where it stands in the sentence: a word to choose, or a figure to type, to drag sideways or to nudge.
  import type { StepSetting } from '../lib/api';
  import { exact } from '../lib/format';
  import { moved, read, shown } from '../lib/settings';
  interface Props {
    setting: StepSetting;
    /** What it belongs to: a screen reader hears it with the setting's own name. */
    of: string;
    /** Where it stands what is wrong with it. */
    against: string;
    onset: (value: unknown) => Promise<void>;
  }
  let { setting, of, against, onset }: Props = $props();
  const id = $props.id();
  const label = $derived(`${of}: ${setting.title.toLowerCase()}`);
  const PIXELS = 4;
  const NUDGED_MS = 350;
  let text = $state<string>();
  /** What was written and is not answered yet: it stays as it stands, so that nobody's next words land among older ones. */
  let sent = $state.raw<{ value: unknown; text: string }>();
  let input: HTMLInputElement | undefined = $state();
  let from: { x: number; value: number } | undefined;
  let dragging = $state(false);
  let nudged: ReturnType<typeof setTimeout> | undefined;
  const now = $derived(text ?? sent?.text ?? shown(setting));
  const absent = $derived(setting.absent ?? '');
  const width = $derived(Math.max((now || absent).length, 2) + (now ? 1.4 : 1.8));

  async function write(): Promise<void> {
    clearTimeout(nudged);
    if (text === undefined) return;
    const value = read(setting, text);
    const same = JSON.stringify(value) === JSON.stringify((sent ? sent.value : setting.value) ?? null);
    const mine = { value, text: shown({ ...setting, value }) };
    text = undefined;
    if (same) return;
    sent = mine;
    await onset(value);
    if (sent === mine) sent = undefined;
  }
  const valueNow = () => {
    const found = read(setting, now);
    return typeof found === 'number' ? found : undefined;
  };

  function onpointerdown(event: PointerEvent): void {
    const value = valueNow();
    if (event.button || document.activeElement === input || setting.form !== 'number' || value === undefined) return;
    event.preventDefault();
    from = { x: event.clientX, value };
    input?.setPointerCapture(event.pointerId);
  }
  function onpointermove(event: PointerEvent): void {
    if (!from || (!dragging && Math.abs(event.clientX - from.x) < PIXELS)) return;
    dragging = true;
    const notches = (event.clientX - from.x) / PIXELS / (event.shiftKey ? 5 : 1);
    text = shown({ ...setting, value: moved(setting, from.value, event.shiftKey ? notches : Math.round(notches)) });
  }
  function onpointerup(): void {
    if (!from) return;
    from = undefined;
    if (dragging) write();
    else {
      input?.focus();
      input?.select();
    }
    dragging = false;
  }
  function onkeydown(event: KeyboardEvent): void {
    if (event.key === 'Enter') write();
    else if (event.key === 'Escape') {
      text = undefined;
      clearTimeout(nudged);
    } else if (event.key === 'ArrowUp' || event.key === 'ArrowDown') {
      const value = valueNow();
      if (value === undefined || event.altKey) return;
      event.preventDefault();
      const notches = (event.key === 'ArrowUp' ? 1 : -1) * (event.shiftKey ? 0.2 : 1);
      text = shown({ ...setting, value: moved(setting, value, notches) });
      // Held or pressed again and again, a key makes one change.
      clearTimeout(nudged);
      nudged = setTimeout(write, NUDGED_MS);
    } else return;
    event.stopPropagation();
  }
  const choices = $derived(setting.choices ?? []);
  // What it does, and what it is where nobody chose it.
  const usual = $derived(
    typeof setting.usual === 'number'
      ? ` Usually ${exact(Number(setting.usual.toFixed(3)))} ${setting.unit ?? ''}`
      : '',
  );
  const why = $derived(`${setting.why}${usual ? `${usual.trimEnd()}.` : ''}`);
</script>

<span class="setting" class:wrong={setting.problem}>
  {#if setting.form === 'choice'}
    <select
      aria-label={label}
      title={why}
      value={String(setting.value)}
      onchange={(event) => onset(choices[event.currentTarget.selectedIndex]?.value)}
    >
      {#each choices as { value, word } (word)}<option value={String(value)}>{word}</option>{/each}
    </select>
  {:else}
    <input
      bind:this={input}
      class:absent={!now}
      class:dragging
      aria-label={label}
      aria-invalid={Boolean(setting.problem)}
      aria-describedby={setting.problem ? against : `${id}-why`}
      title={why}
      inputmode={setting.form === 'number' ? 'decimal' : undefined}
      autocomplete="off"
      placeholder={absent}
      value={now}
      style:--wide={`${width}ch`}
      oninput={(event) => (text = event.currentTarget.value)}
      onblur={write}
      {onpointerdown}
      {onpointermove}
      {onpointerup}
      {onkeydown}
    />
    <span class="visually-hidden" id={`${id}-why`}>{why}</span>
  {/if}{#if setting.unit && now && setting.form !== 'choice'}<span class="unit">{setting.unit}</span>{/if}
</span>

<style>
  .setting {
    white-space: nowrap;
  }
  input,
  select {
    font-family: var(--figures);
    font-size: 0.94em;
    color: var(--ink);
    background: none;
    border: 0;
    border-bottom: 1.5px solid var(--act);
    padding: 0 0.15ch;
    max-width: 100%;
  }
  input {
    field-sizing: content;
    min-width: 1.6ch;
    text-align: center;
    cursor: ew-resize;
    touch-action: none;
  }
  @supports not (field-sizing: content) {
    input {
      width: var(--wide);
    }
  }
  input:focus {
    cursor: text;
    background: var(--paper);
  }
  select {
    font-family: var(--words);
    font-size: 1em;
    field-sizing: content;
    cursor: pointer;
    appearance: none;
  }
  .absent {
    cursor: text;
    font-family: var(--words);
    font-size: 1em;
  }
  input::placeholder {
    color: var(--ink);
    opacity: 1;
  }
  input:focus::placeholder {
    color: var(--soft);
  }
  .dragging {
    color: var(--act);
  }
  .unit {
    color: var(--soft);
    padding-left: 0.2ch;
    font-size: 0.94em;
  }
  .wrong input {
    color: var(--outside);
    border-bottom-color: var(--outside);
  }
</style>
