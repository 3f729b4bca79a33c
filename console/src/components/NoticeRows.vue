<script setup lang="ts">
// Notices as rows: what each says, to whom, and what became of it.
import type { Notice } from '../api/client'
import TimeText from './TimeText.vue'

defineProps<{ items: Notice[] }>()
const ofDevice = (n: Notice) => n.device !== undefined && n.device !== ''
</script>

<template>
  <table class="ruled">
    <thead>
      <tr>
        <th>When</th>
        <th>Says</th>
        <th>To</th>
        <th>Stands</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="n in items" :key="n.id">
        <td class="nowrap"><TimeText :time="n.at" /></td>
        <td>
          <router-link v-if="ofDevice(n)" :to="{ name: 'device', params: { id: n.device } }">{{ n.title }}</router-link>
          <template v-else>{{ n.title }}</template>
          <div class="soft small">{{ n.notice }}</div>
        </td>
        <td>
          {{ n.to || 'nobody' }}
          <div class="soft small">by {{ n.via === 'hook' ? 'web hook' : 'mail' }}, in {{ n.language }}</div>
        </td>
        <td>
          <strong>{{ n.state }}</strong> <TimeText v-if="n.sent_at" :time="n.sent_at" />
          <div v-if="n.why" class="soft small">{{ n.why }}</div>
          <div v-else-if="n.due" class="soft small">at {{ n.due.slice(0, 16).replace('T', ' ') }}</div>
        </td>
      </tr>
    </tbody>
  </table>
</template>
