<script setup lang="ts">
import FactList from './FactList.vue'
import { t } from '../language'

/** What a mail program needs for a mailbox. */
defineProps<{ address: string; server: string; profile: string }>()
</script>

<template>
  <FactList
    :facts="[
      [t('Sign-in name'), address],
      [t('Server'), server],
      [t('Reading'), t('IMAP, port 993, or POP3, port 995, with TLS')],
      [t('Sending'), t('port 465 with TLS')],
      [t('Filters'), t('ManageSieve, port 4190, with STARTTLS')],
    ]"
  />
  <p>
    <a :href="profile" download>{{ $t('Profile for telephones') }}</a>
    <span class="quiet"
      >{{ ' ' }}{{ $t('sets the mailbox up where it is opened; the password is asked for there') }}</span
    >
  </p>
</template>
