<script lang="ts">
  // A page for addresses that name nothing.
</script>

<div class="page">
  <h1>There is no such page</h1>
  <p class="dim">Look among the <a href="/workflows">workflows</a> or the <a href="/runs">runs</a>.</p>
</div>
