<script setup lang="ts">
import { ago, full } from '../composables/format'

defineProps<{ time: string }>()
</script>

<template>
  <time :datetime="time" :title="full(time)" class="nowrap">{{ ago(time) }}</time>
</template>
