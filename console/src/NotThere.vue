<template>
  <section class="empty">
    <h1>There is no such page</h1>
    <p>
      The address may be old or mistyped. <RouterLink to="/accounts">Go to the accounts</RouterLink>, or press / and
      search.
    </p>
  </section>
</template>
