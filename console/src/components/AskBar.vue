<script setup lang="ts">
// How and from where somebody comes: the part of a question that they share.
import type { Asking } from '../composables/asking'

const form = defineModel<Asking>({ required: true })
</script>

<template>
  <el-input v-model="form.action" name="action" placeholder="open" aria-label="Action" class="narrow" />
  <el-select
    v-model="form.mfa"
    aria-label="Second factor"
    placeholder="Second factor: not said"
    clearable
    class="factor"
    ><el-option value="yes" label="with a second factor" /><el-option value="no" label="without one" />
  </el-select>
  <el-input v-model="form.ip" name="ip" placeholder="From address" aria-label="Address" class="narrow" />
</template>

<style scoped>
.narrow {
  max-width: 150px;
}
.factor {
  max-width: 220px;
}
</style>
