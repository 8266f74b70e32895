<script lang="ts">
  // Every key of the bench and what it does.
  import type { Place } from '../lib/places';
  import type { Player } from '../lib/player.svelte';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import { shortcuts, undoing } from '../lib/shortcuts.svelte';
  interface Props {
    player: Player;
    view: RibbonView;
    places: Place[];
    ongo: (place: Place) => void;
    onundo: () => unknown;
    onredo: () => unknown;
  }
  let { player, view, places, ongo, onundo, onredo }: Props = $props();
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

  shortcuts(() => ({
    title: 'Bench',
    list: [
      { keys: ['h'], shown: 'H', does: 'play or stop', act: () => player.toggle() },
      { keys: ['x'], shown: 'X', does: 'switch between original and processed', act: () => player.swap() },
      { keys: ['ArrowLeft'], shown: '←', does: 'back 2 s', act: () => player.seek(player.position - 2) },
      { keys: ['ArrowRight'], shown: '→', does: 'forward 2 s', act: () => player.seek(player.position + 2) },
      { keys: ['n'], shown: 'N', does: 'next finding', act: next },
      { keys: ['p'], shown: 'P', does: 'previous finding', act: previous },
      { keys: ['+', '='], shown: '+', does: 'zoom in', act: () => view.zoom(2, player.position) },
      { keys: ['-'], shown: '−', does: 'zoom out', act: () => view.zoom(0.5, player.position) },
      { keys: ['0'], shown: '0', does: 'whole file', act: () => view.fit() },
      { keys: [','], shown: ',', does: 'scroll left', act: () => view.pan(-view.span / 2) },
      { keys: ['.'], shown: '.', does: 'scroll right', act: () => view.pan(view.span / 2) },
      { keys: ['w'], shown: 'W', does: 'levels or waveform', act: () => view.turn('wave') },
      { keys: ['s'], shown: 'S', does: 'levels or spectrogram', act: () => view.turn('spectrogram') },
      { keys: ['u'], shown: 'U', does: 'show loudness', act: () => (view.loudness = !view.loudness) },
      { keys: ['['], shown: '[', does: 'start the selection at the playhead', act: () => edge('from') },
      { keys: [']'], shown: ']', does: 'end the selection at the playhead', act: () => edge('to') },
      {
        keys: ['l'],
        shown: 'L',
        does: 'loop the selection',
        act: () => (player.loop = player.loop ? undefined : view.selection),
      },
      { keys: ['Escape'], shown: 'Esc', does: 'clear the selection', act: clear },
      ...undoing(onundo, onredo),
    ],
    hint: 'With the pointer on the ribbon: click to jump there or to a numbered finding, drag to select, double-click to zoom to the selection, Ctrl+wheel to zoom.',
  }));
  const within = '.ribbon *';
  shortcuts(() => ({
    title: 'With the focus on the ribbon',
    list: [
      { keys: [' '], shown: 'Space', does: 'play or stop', within, act: () => player.toggle() },
      { keys: ['Home'], shown: 'Home', does: 'jump to the start', within, act: () => player.seek(0) },
      { keys: ['End'], shown: 'End', does: 'jump to the end', within, act: () => player.seek(view.duration - 1) },
      {
        keys: ['PageUp'],
        shown: 'Page Up',
        does: 'forward 30 s',
        within,
        act: () => player.seek(player.position + 30),
      },
      {
        keys: ['PageDown'],
        shown: 'Page Down',
        does: 'back 30 s',
        within,
        act: () => player.seek(player.position - 30),
      },
    ],
  }));
</script>
