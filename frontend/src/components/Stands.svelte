<script lang="ts">
  // How a certificate stands, in a word with its mark.
  import type { CertificateRow } from '../lib/api';
  import BracketMark from './BracketMark.svelte';
  let { row }: { row: CertificateRow } = $props();
  const WORDS = { stands: 'Valid', superseded: 'Superseded', withdrawn: 'Withdrawn' };
  const POSITIONS = { stands: 'inside', superseded: 'near', withdrawn: 'over' } as const;
</script>

<span class={row.stands}
  ><BracketMark position={POSITIONS[row.stands]} size={13} silent />
  {WORDS[row.stands]}</span
>

<style>
  span {
    white-space: nowrap;
  }
  .superseded {
    color: var(--near);
  }
  .withdrawn {
    color: var(--outside);
  }
</style>
