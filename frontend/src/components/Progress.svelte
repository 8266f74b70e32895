<script lang="ts">
  // A rule that fills, with the name of the stage.
  import LinkButton from './LinkButton.svelte';
  interface Props {
    stage: string;
    fraction: number;
    oncancel?: () => void;
    about?: string;
  }
  let { stage, fraction, oncancel, about = '' }: Props = $props();
  const percent = $derived(Math.round(100 * fraction));
</script>

<div class="line">
  <div class="words">
    <span>{stage}</span><span class="figure">{percent} %</span>
    {#if oncancel}<LinkButton onclick={oncancel} label={`Cancel ${about}`}>Cancel</LinkButton>{/if}
  </div>
  <div
    class="track"
    role="progressbar"
    aria-label={`${stage} ${about}`}
    aria-valuenow={percent}
    aria-valuemin="0"
    aria-valuemax="100"
  >
    <div class="done" style:width={`${percent}%`}></div>
  </div>
</div>

<style>
  .line {
    min-width: 150px;
    font-size: var(--type-small);
    color: var(--soft);
  }
  .words {
    display: flex;
    gap: var(--space-4);
    align-items: baseline;
  }
  .words span:first-child {
    flex: 1;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-fine);
  }
  .track {
    height: 2px;
    background: var(--rule);
    margin-top: var(--space-2);
  }
  .done {
    height: 2px;
    background: var(--act);
    transition: width 120ms linear;
  }
</style>
