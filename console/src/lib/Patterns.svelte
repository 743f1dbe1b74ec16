<script lang="ts">
  // Fills for kinds of time: hatched while waiting, dotted while preparing or delivering.
</script>

<svg width="0" height="0" class="absolute" aria-hidden="true">
  <defs>
    <pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
      <line x1="0" y1="0" x2="0" y2="6" stroke="var(--ash)" stroke-width="1.6" opacity="0.6" />
    </pattern>
    <pattern id="dots" width="4.5" height="4.5" patternUnits="userSpaceOnUse">
      <circle cx="2.2" cy="2.2" r="1.2" fill="var(--quiet)" />
    </pattern>
  </defs>
</svg>
