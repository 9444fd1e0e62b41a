<script setup lang="ts">
import { may } from '../session/state'
import LoginList from './LoginList.vue'
import { useAccount } from './useAccount'

/** How to get at the files of an account. */
const { name, data, open, after } = useAccount()
</script>

<template>
  <template v-if="data">
    <LoginList v-if="open" :account="name" :sign-in="data.sign_in_name" :may="may('logins.change')" @started="after" />
    <p v-else class="quiet">
      {{ $t('The account is {state}: nobody can sign in for its files.', { state: data.state }) }}
    </p>
  </template>
</template>
