<script setup lang="ts">
// How the items of a feed go on over several answers.
import type { FeedDraft } from '../composables/feeds'

const draft = defineModel<FeedDraft>({ required: true })
</script>

<template>
  <section>
    <h3>3. How its items go on</h3>
    <div class="fields">
      <label
        >Pages
        <el-select v-model="draft.pages" aria-label="How its items go on">
          <el-option value="none" label="one answer has all" />
          <el-option value="link" label="a header Link leads on" />
          <el-option value="cursor" label="a cursor in the answer" />
          <el-option value="offset" label="how many came before" />
        </el-select>
      </label>
      <label v-if="draft.pages === 'cursor'"
        >Cursor at <el-input v-model="draft.at" name="at" placeholder="/paging/next"
      /></label>
      <label v-if="draft.pages === 'cursor' || draft.pages === 'offset'"
        >Asked by
        <el-input
          v-model="draft.parameter"
          name="parameter"
          :placeholder="draft.pages === 'cursor' ? 'a parameter; empty if it is an address' : 'a parameter'"
      /></label>
      <template v-if="draft.pages !== 'none'">
        <label
          >Size by <el-input v-model="draft.size_parameter" name="size_parameter" placeholder="a parameter"
        /></label>
        <label v-if="draft.size_parameter">Size <el-input v-model="draft.size" name="size" placeholder="500" /></label>
      </template>
      <label v-if="draft.kind === 'devices'"
        >Changes since by <el-input v-model="draft.since" name="since" placeholder="a parameter; empty: always all"
      /></label>
    </div>
  </section>
</template>

<style scoped>
section {
  border-top: 1px solid var(--rule);
  padding: 14px 0 4px;
}
</style>
