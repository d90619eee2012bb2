import { computed, type Ref, ref } from 'vue'

import type { Variant } from '../api/client'

export type Order = 'age' | 'name' | 'size' | 'used'

/** Whether all words stand in a variant's name, family or description. */
export function hasWords(variant: Variant, words: string): boolean {
  const text = [variant.name, variant.facts.family, variant.facts.description ?? ''].join(' ').toLowerCase()
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => text.includes(word))
}

/** Variants in an order; those that came first stay first where nothing tells them apart. */
export function ordered(variants: Variant[], order: Order): Variant[] {
  const compare: Record<Order, (a: Variant, b: Variant) => number> = {
    age: () => 0,
    name: (a, b) => a.name.localeCompare(b.name),
    size: (a, b) => b.file_bytes - a.file_bytes,
    used: (a, b) => (b.last_used ?? '').localeCompare(a.last_used ?? ''),
  }
  return [...variants].sort(compare[order])
}

/** The depot's list as somebody wants to see it. */
export function useVariants(variants: Ref<Variant[]>) {
  const words = ref('')
  const order = ref<Order>('age')
  const shown = computed(() =>
    ordered(
      variants.value.filter((variant) => hasWords(variant, words.value)),
      order.value,
    ),
  )
  return { words, order, shown }
}
