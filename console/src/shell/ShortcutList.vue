<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElDialog } from 'element-plus'
import { may } from '../areas/session/state'
import { useAreas } from './useAreas'

/** Every shortcut there is, for the person who asks. */
const shown = defineModel<boolean>({ required: true })
const { shown: areas } = useAreas()
const going = computed(() => areas.value.filter((a) => a.key))
</script>

<template>
  <ElDialog v-model="shown" :title="$t('Shortcuts')" width="min(44rem, 94vw)">
    <div class="columns">
      <dl>
        <dt><kbd>/</kbd></dt>
        <dd>{{ $t('Search, or do: “suspend bakery”') }}</dd>
        <template v-if="may('accounts.open')">
          <dt><kbd>n</kbd></dt>
          <dd>{{ $t('Open an account') }}</dd>
        </template>
        <dt><kbd>[</kbd></dt>
        <dd>{{ $t('Show or hide the areas') }}</dd>
        <dt><kbd>?</kbd></dt>
        <dd>{{ $t('This list') }}</dd>
        <dt><kbd>↑</kbd> <kbd>↓</kbd></dt>
        <dd>
          <i18n-t keypath="Go through a list; {home} and {end} go to its ends" scope="global" tag="span"
            ><template #home><kbd>Home</kbd></template
            ><template #end><kbd>End</kbd></template></i18n-t
          >
        </dd>
        <dt><kbd>Enter</kbd></dt>
        <dd>{{ $t('Open the row') }}</dd>
        <dt><kbd>Space</kbd></dt>
        <dd>{{ $t('Select the row, where rows can be selected') }}</dd>
        <dt><kbd>Esc</kbd></dt>
        <dd>{{ $t('Close what is over the page') }}</dd>
      </dl>
      <dl>
        <template v-for="area in going" :key="area.label">
          <dt>
            <kbd>g</kbd> <kbd>{{ area.key }}</kbd>
          </dt>
          <dd>{{ area.label }}</dd>
        </template>
      </dl>
    </div>
    <template #footer
      ><ElButton @click="shown = false">{{ $t('Close') }}</ElButton></template
    >
  </ElDialog>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(16rem, 1fr));
  gap: 0 2rem;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.45rem 1.1rem;
  align-content: start;
  margin: 0;
}
dd {
  margin: 0;
}
</style>
