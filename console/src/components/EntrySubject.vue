<script setup lang="ts">
// What an entry is about, as a link to its page.
import { computed } from 'vue'

const props = defineProps<{ kind: string; about: string }>()
const to = computed(() => {
  const [of] = props.kind.split('.')
  switch (true) {
    case props.about === '':
      return null
    case props.kind === 'decision.made' || props.kind === 'session.ended':
      return { name: 'decision', params: { id: props.about } }
    case props.kind === 'rulebook.published':
      return { name: 'versions' }
    case props.kind === 'ledger.redacted':
      return { name: 'entry', params: { seq: props.about } }
    case props.kind === 'person.removed':
      return { name: 'person', params: { id: props.about } }
    case of === 'standing' ||
      of === 'waiver' ||
      of === 'vouch' ||
      props.kind === 'device.retired' ||
      props.kind === 'device.settled':
      return { name: 'device', params: { id: props.about } }
  }
  return null
})
</script>

<template>
  <router-link v-if="to" :to="to" @click.stop>{{
    kind === 'rulebook.published' ? `version ${about}` : kind === 'ledger.redacted' ? `entry ${about}` : about
  }}</router-link>
  <template v-else>{{ about }}</template>
</template>
