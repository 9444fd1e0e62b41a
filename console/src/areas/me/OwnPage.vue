<script setup lang="ts">
import PageHead from '../../parts/PageHead.vue'
import { session } from '../session/state'
import OwnFactor from './OwnFactor.vue'
import OwnPassword from './OwnPassword.vue'
import OwnSessions from './OwnSessions.vue'
import OwnTokens from './OwnTokens.vue'
</script>

<template>
  <PageHead :title="$t('Your sign-in')" :about="session?.name" />
  <div class="halves">
    <div><OwnPassword /><OwnFactor /></div>
    <div><OwnSessions /><OwnTokens /></div>
  </div>
</template>
