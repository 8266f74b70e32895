<script lang="ts">
  // Every key of the bench: what it does, and a sheet that lists them.
  import type { Place } from '../lib/places';
  import type { Player } from '../lib/player.svelte';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    player: Player;
    view: RibbonView;
    places: Place[];
    ongo: (place: Place) => void;
  }
  let { player, view, places, ongo }: Props = $props();
  let dialog: HTMLDialogElement | undefined = $state();
  const timed = $derived(places.filter((place) => !place.whole).sort((one, other) => one.start_s - other.start_s));

  function next(): void {
    const found = timed.find((place) => place.start_s > player.position + 0.51) ?? timed[0];
    if (found) ongo(found);
  }
  function previous(): void {
    const found = timed.findLast((place) => place.start_s < player.position + 0.49) ?? timed.at(-1);
    if (found) ongo(found);
  }
  function edge(side: 'from' | 'to'): void {
    const now = view.selection ?? { from: player.position, to: view.duration };
    if (side === 'from') view.select(player.position, Math.max(now.to, player.position));
    else view.select(view.selection ? Math.min(now.from, player.position) : 0, player.position);
  }
  const clear = () => {
    view.selection = undefined;
    player.loop = undefined;
  };

  const KEYS: { keys: string[]; shown: string; does: string; act: () => void }[] = [
    { keys: [' '], shown: 'Space', does: 'play or stop', act: () => player.toggle() },
    { keys: ['x'], shown: 'x', does: 'switch between original and processed', act: () => player.swap() },
    { keys: ['ArrowLeft'], shown: '←', does: 'back 2 s', act: () => player.seek(player.position - 2) },
    { keys: ['ArrowRight'], shown: '→', does: 'forward 2 s', act: () => player.seek(player.position + 2) },
    { keys: ['Home'], shown: 'Home', does: 'jump to the start', act: () => player.seek(0) },
    { keys: ['End'], shown: 'End', does: 'jump to the end', act: () => player.seek(view.duration - 1) },
    { keys: ['n'], shown: 'n', does: 'next finding', act: next },
    { keys: ['p'], shown: 'p', does: 'previous finding', act: previous },
    { keys: ['+', '='], shown: '+', does: 'closer', act: () => view.zoom(2, player.position) },
    { keys: ['-'], shown: '−', does: 'wider', act: () => view.zoom(0.5, player.position) },
    { keys: ['0'], shown: '0', does: 'whole file', act: () => view.fit() },
    { keys: [','], shown: ',', does: 'scroll left', act: () => view.pan(-view.span / 2) },
    { keys: ['.'], shown: '.', does: 'scroll right', act: () => view.pan(view.span / 2) },
    { keys: ['w'], shown: 'w', does: 'levels or waveform', act: () => view.turn('wave') },
    { keys: ['s'], shown: 's', does: 'levels or spectrogram', act: () => view.turn('spectrogram') },
    { keys: ['u'], shown: 'u', does: 'show loudness', act: () => (view.loudness = !view.loudness) },
    { keys: ['['], shown: '[', does: 'start the selection at the playhead', act: () => edge('from') },
    { keys: [']'], shown: ']', does: 'end the selection at the playhead', act: () => edge('to') },
    {
      keys: ['l'],
      shown: 'l',
      does: 'loop the selection',
      act: () => (player.loop = player.loop ? undefined : view.selection),
    },
    { keys: ['Escape'], shown: 'Esc', does: 'clear the selection', act: clear },
    { keys: ['?'], shown: '?', does: 'this list', act: () => dialog?.showModal() },
  ];

  function onkeydown(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector('dialog[open]')) return;
    if (target.closest('input:not([type=checkbox]), select, textarea')) return;
    if (event.key === ' ' && target.closest('button, a, input')) return;
    const found = KEYS.find(({ keys }) => keys.includes(event.key));
    if (!found) return;
    event.preventDefault();
    found.act();
  }
</script>

<svelte:window {onkeydown} />
<LinkButton onclick={() => dialog?.showModal()}>Keyboard shortcuts</LinkButton>
<Dialog bind:element={dialog} title="Keyboard shortcuts">
  <dl>
    {#each KEYS as { shown, does } (shown)}
      <div>
        <dt><kbd>{shown}</kbd></dt>
        <dd>{does}</dd>
      </div>
    {/each}
  </dl>
  <p>
    On the ribbon: click to jump there or to a numbered finding, drag to select, double-click to zoom to the selection,
    Ctrl+wheel to zoom.
  </p>
  <Button onclick={() => dialog?.close()}>Close</Button>
</Dialog>

<style>
  dl {
    columns: 2;
    column-gap: 32px;
    margin: 10px 0;
    font-size: 14px;
  }
  dl div {
    display: flex;
    gap: 12px;
    padding: 2px 0;
    break-inside: avoid;
  }
  dt {
    min-width: 52px;
  }
  dd {
    margin: 0;
  }
  kbd {
    font-family: var(--figures);
    font-size: 13px;
    border: 1px solid var(--rule);
    padding: 0 6px;
  }
  p {
    font-size: 13.5px;
    color: var(--soft);
    margin-bottom: 12px;
  }
</style>
