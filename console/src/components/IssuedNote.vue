<script setup lang="ts">
// What our own authority knows of a certificate that it issued, with a way to take it back.
import { ref } from 'vue'
import { api, must, type IssuedCertificate } from '../api/client'
import { useSession } from '../stores/session'
import ReasonForm from './ReasonForm.vue'
import TimeText from './TimeText.vue'

const props = defineProps<{ issued: IssuedCertificate }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const revoking = ref(false)
const revoke = (reason: string) =>
  must(api.POST('/api/v1/certificates/revoke', { body: { serial: props.issued.serial, reason } }))
function revoked() {
  revoking.value = false
  emit('changed')
}
</script>

<template>
  <div class="small">
    <span class="soft">profile {{ issued.profile }}, </span>
    <template v-if="issued.revoked_at">
      <span class="bad">revoked by {{ issued.revoked_by }}</span> <TimeText :time="issued.revoked_at" />:
      {{ issued.reason }}
    </template>
    <template v-else>
      <span v-if="issued.renewed" class="soft"
        >renewed as <code>{{ issued.renewed.slice(0, 12) }}…</code></span
      >
      <span v-else class="soft">to be renewed <TimeText :time="issued.renew_from" /></span>
      <span v-if="issued.used_at" class="soft"
        >, last used <TimeText :time="issued.used_at" /> from {{ issued.used_from }}</span
      >
      <div v-if="issued.shared_at" class="bad">
        used in two places at once <TimeText :time="issued.shared_at" />: {{ issued.shared?.join(' and ') }}
      </div>
      <el-button
        v-if="session.can('POST /api/v1/certificates/revoke') && !revoking"
        link
        type="primary"
        size="small"
        @click="revoking = true"
        >Revoke…</el-button
      >
      <ReasonForm v-if="revoking" label="Revoke it" :what="revoke" @done="revoked" @cancel="revoking = false" />
    </template>
  </div>
</template>

<style scoped>
.bad {
  color: var(--metal);
}
</style>
