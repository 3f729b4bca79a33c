<script setup lang="ts" generic="T, P extends { items: T[]; next?: string }">
// A list that is searched and gone through page by page: its search, what came of
// it in each state, and the pager.
import type { Problem } from '../api/client'
import PageTurns from './PageTurns.vue'
import ProblemNote from './ProblemNote.vue'

defineProps<{
  /** Empty when the page above has one. */
  title: string
  /** What came; null before something did. */
  page: P | null
  problem: Problem | null
  loading: boolean
  /** The cursor in the address; empty on the first page. */
  cursor?: string
  /** What the pager calls the page before, and the one after. */
  before?: string
  after?: string
}>()
defineEmits<{ search: []; again: []; back: []; forward: [] }>()
defineSlots<{
  /** Beside the title, and between it and the search. */
  head?(): unknown
  intro?(): unknown
  /** The fields of the search, and what stands behind its button. */
  search(): unknown
  tools?(): unknown
  /** Under the search, always; and once a page came. */
  under?(): unknown
  filters?(p: { page: P }): unknown
  /** The rows of a page that has some; what is told of one that has none. */
  default(p: { items: P['items'] }): unknown
  empty(): unknown
}>()
</script>

<template>
  <header v-if="title" class="head">
    <h1>{{ title }}</h1>
    <slot name="head" />
  </header>
  <slot name="intro" />
  <form class="search" role="search" @submit.prevent="$emit('search')">
    <slot name="search" />
    <el-button native-type="submit" type="primary">Search</el-button>
    <slot name="tools" />
  </form>
  <slot name="under" />
  <ProblemNote v-if="problem" :problem="problem" @again="$emit('again')" />
  <slot v-if="page" name="filters" :page="page" />
  <el-skeleton v-if="!page && loading" :rows="8" animated />
  <div v-else-if="page && page.items.length > 0" :class="{ stale: loading }">
    <slot :items="page.items" />
  </div>
  <div v-else-if="page && !problem" class="empty">
    <slot name="empty" />
  </div>
  <PageTurns
    v-if="page"
    :cursor="cursor"
    :next="page.next"
    :before="before"
    :after="after"
    @back="$emit('back')"
    @forward="$emit('forward')"
  />
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  gap: 24px;
}
.search {
  display: flex;
  gap: 10px;
  margin: 14px 0 10px;
  align-items: center;
}
.stale {
  opacity: 0.6;
}
@media (max-width: 820px) {
  .search {
    flex-wrap: wrap;
  }
  .head {
    flex-wrap: wrap;
    gap: 4px 18px;
  }
}
.empty {
  padding: 40px 0;
}
</style>
