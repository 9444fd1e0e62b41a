<script setup lang="ts">
import { useTemplateRef } from 'vue'
import { ElButton, ElDialog } from 'element-plus'
import type { Refusal } from '../api/client'
import ProblemNote from './ProblemNote.vue'

/**
 * A dialog with a form, which Enter and the button that says what will be done submit. Nothing happens
 * while it is not ready. A click beside the dialog does not lose what was typed (dirty), and nothing of
 * it stays in the page when it is closed. The refusal is what is not said beside fields; further
 * buttons, such as one for a preview, are acts.
 */
const shown = defineModel<boolean>({ required: true })
withDefaults(
  defineProps<{
    id: string
    title: string
    action: string
    ready?: boolean
    busy?: boolean
    dirty?: boolean
    refusal?: Refusal
    /** In rem; a phone shows less. */
    width?: number
  }>(),
  { ready: true, width: 34, refusal: undefined },
)
const emit = defineEmits<{ submit: [] }>()
const form = useTemplateRef('form')
/** Begins in the first field, unless a click was quicker. */
function focus() {
  if (!form.value?.contains(document.activeElement))
    form.value?.querySelector<HTMLElement>('input:not([type="hidden"]), textarea')?.focus()
}
</script>

<template>
  <ElDialog
    v-model="shown"
    :title="title"
    :close-on-click-modal="!dirty"
    :width="`min(${width}rem, 94vw)`"
    destroy-on-close
    @opened="focus"
  >
    <form :id="id" ref="form" class="stack" @submit.prevent="ready && !busy && emit('submit')">
      <slot />
      <ProblemNote :refusal="refusal" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton>
      <slot name="acts" />
      <ElButton type="primary" native-type="submit" :form="id" :disabled="!ready" :loading="busy">{{
        action
      }}</ElButton>
    </template>
  </ElDialog>
</template>
