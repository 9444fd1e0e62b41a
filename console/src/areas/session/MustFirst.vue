<script setup lang="ts">
import PageHead from '../../parts/PageHead.vue'
import OwnFactor from '../me/OwnFactor.vue'
import OwnPassword from '../me/OwnPassword.vue'
import { session } from './state'

/** What has to be done about the sign-in before anything else. */
</script>

<template>
  <template v-if="session">
    <PageHead :title="$t('Before you go on')" :about="$t('Whoever looks after your sign-in asks for this once.')" />
    <OwnPassword v-if="session.must_first.includes('password')" />
    <OwnFactor v-else />
  </template>
</template>
