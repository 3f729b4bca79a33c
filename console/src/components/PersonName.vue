<script setup lang="ts">
// Who asked: a person, as a link to their page, or the device itself. Of a
// decision that was redacted nobody is left.
defineProps<{ id: string; device?: boolean }>()
</script>

<template>
  <span v-if="device" class="soft">the device itself</span>
  <router-link v-else-if="id" :to="{ name: 'person', params: { id } }" @click.stop>{{ id }}</router-link>
  <span v-else class="soft">redacted</span>
</template>
