<script setup lang="ts">
// A text for people with its Markdown links made into links, and nothing else.
import { linked } from '../composables/format'

defineProps<{ text: string }>()
</script>

<template>
  <template v-for="(part, i) in linked(text)" :key="i"
    ><a v-if="part.href" :href="part.href" rel="noreferrer" target="_blank">{{ part.text }}</a
    ><template v-else>{{ part.text }}</template></template
  >
</template>
