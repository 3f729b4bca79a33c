<script setup lang="ts">
// The way through the pages of a list; nothing where it has one page.
const { before = 'Before', after = 'Next' } = defineProps<{
  cursor?: string
  next?: string
  /** What the page before is called, and the one after. */
  before?: string
  after?: string
}>()
defineEmits<{ back: []; forward: [] }>()
</script>

<template>
  <nav v-if="next || cursor" class="pages" aria-label="Pages of the list">
    <el-button :disabled="!cursor" @click="$emit('back')">{{ before }}</el-button>
    <el-button :disabled="!next" @click="$emit('forward')">{{ after }}</el-button>
  </nav>
</template>

<style scoped>
.pages {
  margin-top: 16px;
}
</style>
