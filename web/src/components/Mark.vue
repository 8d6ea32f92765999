<template>
  <RouterLink to="/" class="mark" title="Shelf"><b>Lucid</b> <i>Relic</i></RouterLink>
</template>

<style scoped>
.mark {
  font: 600 17px var(--cond);
  color: var(--ink);
  white-space: nowrap;
}
.mark i {
  font-style: normal;
  color: var(--verdigris);
}
</style>
