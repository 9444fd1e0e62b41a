<script setup lang="ts">
import type { Schemas } from '../api/client'
import { moment } from '../words'

/** How many sign-ins to a mailbox have failed, if any. */
defineProps<{ failures?: Schemas['SignInFailures'] }>()
</script>

<template>
  <p v-if="failures">
    {{
      $t('Failed sign-ins within a day: {count}. Addresses they came from: {addresses}. The last: {at}.', {
        count: failures.count,
        addresses: failures.addresses,
        at: moment(failures.last_at),
      })
    }}
    <template v-if="failures.last_from"
      >{{ $t('It came from') }} <code>{{ failures.last_from }}</code>.</template
    >
    <span class="quiet">{{ $t('A program with an old password does that, too.') }}</span>
  </p>
</template>
