<script setup lang="ts">
/** How far a course reaches back: a link for each span, the chosen one marked. */
const spans = ['1d', '7d', '30d']
defineProps<{ back?: string }>()
defineEmits<{ pick: [back: string] }>()
</script>

<template>
  <el-button
    v-for="s in spans"
    :key="s"
    link
    :type="(back || '7d') === s ? 'primary' : 'default'"
    @click="$emit('pick', s)"
    >{{ s }}</el-button
  >
</template>
