<template>
  <section class="empty">
    <h1>{{ $t('There is no such page') }}</h1>
    <p>
      {{ $t('The address may be old or mistyped.') }}
      <RouterLink to="/">{{ $t('Go to the first page') }}</RouterLink>
    </p>
  </section>
</template>
