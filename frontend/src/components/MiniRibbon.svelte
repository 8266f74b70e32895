<script lang="ts">
  // The level ribbon in miniature: for each column from RMS to peak, on a decibel axis from 0 to −80.
  import type { Ribbon } from '../lib/api';
  interface Props {
    ribbon: Ribbon;
    width?: number;
    height?: number;
  }
  let { ribbon, width = 132, height = 30 }: Props = $props();

  const path = $derived.by(() => {
    const columns = ribbon.peak_dbfs.length;
    const bins = Math.min(columns, width);
    const y = (level: number) => (-level / 80) * height;
    const top: string[] = [];
    const bottom: string[] = [];
    for (let bin = 0; bin < bins; bin++) {
      const from = Math.floor((bin * columns) / bins);
      const to = Math.max(from + 1, Math.floor(((bin + 1) * columns) / bins));
      const peak = Math.max(...ribbon.peak_dbfs.slice(from, to));
      const rms = Math.max(...ribbon.rms_dbfs.slice(from, to));
      const x = ((bin * width) / bins).toFixed(1);
      top.push(`${x} ${y(peak).toFixed(1)}`);
      bottom.unshift(`${x} ${Math.max(y(rms), y(peak) + 0.8).toFixed(1)}`);
    }
    return `M${top.join('L')}L${bottom.join('L')}Z`;
  });
</script>

<svg {width} {height} viewBox={`0 0 ${width} ${height}`} preserveAspectRatio="none" aria-hidden="true"
  ><path d={path} /></svg
>

<style>
  svg {
    display: block;
    background: color-mix(in srgb, var(--paper) 60%, var(--sheet));
    border-bottom: 1px solid var(--rule);
  }
  path {
    fill: var(--ink);
  }
</style>
