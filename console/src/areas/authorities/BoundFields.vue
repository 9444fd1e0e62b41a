<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import type { Schemas } from '../../api/client'
import { pers } from './bounds'

/** How much is ordered at an authority at most. */
const bounds = defineModel<Schemas['Bound'][]>({ required: true })
const add = () => (bounds.value = [...bounds.value, { per: 'account', most: 300, hours: 3 }])
const read = (text: string) => Number(text) || 0
</script>

<template>
  <div class="bounds" role="group" :aria-label="$t('Bounds')">
    <p v-if="!bounds.length" class="quiet">
      {{ $t('None: it is ordered until the authority says no. Its documentation says what can be ordered.') }}
    </p>
    <div v-for="(b, i) in bounds" :key="i" class="line">
      <span>{{ $t('at most') }}</span><ElInput
        :model-value="String(b.most)"
        inputmode="numeric"
        :aria-label="$t('Number of orders')"
        class="short"
        @update:model-value="b.most = read($event)"
      />
      <span>{{ $t('orders') }}</span><ElSelect v-model="b.per" :aria-label="$t('Counted for')" class="per"
        ><ElOption v-for="(words, per) in pers" :key="per" :value="per" :label="words"
      /></ElSelect>
      <span>{{ $t('within') }}</span><ElInput
        :model-value="String(b.hours)"
        inputmode="numeric"
        :aria-label="$t('Hours')"
        class="short"
        @update:model-value="b.hours = read($event)"
      />
      <span>{{ $t('hours') }}</span>
      {{ ' ' }}
      <button type="button" class="link" @click="bounds = bounds.filter((_, n) => n !== i)">{{ $t('Remove') }}</button>
    </div>
    <ElButton size="small" @click="add">{{ $t('Add a bound') }}</ElButton>
  </div>
</template>

<style scoped>
.bounds {
  display: grid;
  gap: 0.4rem;
  justify-items: start;
}
.bounds p {
  margin: 0;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  align-items: center;
}
.short {
  width: 5rem;
}
.per {
  width: 13rem;
}
</style>
