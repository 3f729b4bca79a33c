<script setup lang="ts">
// The way through the pages of a list; nothing where it has one page.
defineProps<{ cursor?: string; next?: string }>()
defineEmits<{ back: []; forward: [] }>()
</script>

<template>
  <nav v-if="next || cursor" class="pages" aria-label="Pages of the list">
    <el-button :disabled="!cursor" @click="$emit('back')">Before</el-button>
    <el-button :disabled="!next" @click="$emit('forward')">Next</el-button>
  </nav>
</template>

<style scoped>
.pages {
  margin-top: 16px;
}
</style>
