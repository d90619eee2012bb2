<script setup lang="ts">
/** Names with values, as many in a row as there is room for; what has no value is left out. */
defineProps<{ facts: [name: string, value: string | null | undefined][] }>()
</script>

<template>
  <dl class="facts text-body-medium">
    <template v-for="[name, value] in facts" :key="name">
      <div v-if="value">
        <dt>{{ name }}</dt>
        <dd>{{ value }}</dd>
      </div>
    </template>
  </dl>
</template>

<style scoped>
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 28px;
}
dt {
  font-size: 0.75rem;
  opacity: 0.7;
}
dd {
  margin: 0;
  font-variant-numeric: tabular-nums;
}
</style>
