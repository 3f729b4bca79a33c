<script setup lang="ts">
// A secret that was made: it is shown this once.
import CopyText from './CopyText.vue'

defineProps<{ of: string; text: string }>()
defineEmits<{ done: [] }>()
</script>

<template>
  <section class="secret" role="status">
    <p>
      The secret of <strong>{{ of }}</strong>, shown this once:
    </p>
    <p>
      <CopyText :text="text"
        ><code>{{ text }}</code></CopyText
      >
    </p>
    <el-button link @click="$emit('done')">I have put it where it belongs</el-button>
  </section>
</template>

<style scoped>
.secret {
  border-left: 3px solid var(--good);
  padding: 4px 0 4px 14px;
  margin: 12px 0;
  overflow-wrap: anywhere;
}
</style>
