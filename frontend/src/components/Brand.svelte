<script lang="ts">
  // The application's name with its mark.
</script>

<span>
  <svg viewBox="0 0 32 16" width="36" height="18" aria-hidden="true">
    <path d="M11 2H7v12h4M21 2h4v12h-4" /><circle cx="16" cy="8" r="2.8" />
  </svg>
  Ispettore
</span>

<style>
  span {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    font-size: var(--type-lead);
    font-weight: 650;
    letter-spacing: -0.01em;
    color: var(--ink);
  }
  path {
    fill: none;
    stroke: var(--ink);
    stroke-width: 2;
  }
  circle {
    fill: var(--act);
  }
</style>
