<script setup lang="ts">
// What a feed brings and as whom, where it is, and how we sign in.
import { computed } from 'vue'
import type { Source } from '../api/client'
import type { FeedDraft } from '../composables/feeds'

const draft = defineModel<FeedDraft>({ required: true })
const props = defineProps<{ sources: Source[]; there: boolean }>()
const source = computed(() => props.sources.find((s) => s.id === draft.value.source))
</script>

<template>
  <section>
    <h3>1. What it brings, and as whom</h3>
    <div class="fields">
      <label
        >Brings
        <el-select v-model="draft.kind" :disabled="there" aria-label="What it brings">
          <el-option value="devices" label="devices" />
          <el-option value="people" label="people" />
        </el-select>
      </label>
      <label v-if="draft.kind === 'devices'"
        >Speaks as the source
        <el-select v-model="draft.source" :disabled="there" aria-label="Source" placeholder="of the rulebook">
          <el-option v-for="s in sources" :key="s.id" :value="s.id" :label="s.title ? `${s.id}: ${s.title}` : s.id" />
        </el-select>
      </label>
    </div>
    <p v-if="source" class="soft small">
      The rulebook lets {{ source.id }} supply <code>{{ source.provides.join(', ') }}</code>. What else its items say is
      refused, and told.
    </p>
  </section>
  <section>
    <h3>2. Where it is, and how we sign in</h3>
    <div class="fields">
      <label
        >It is at
        <el-select v-model="draft.place" aria-label="Where it is">
          <el-option value="url" label="an address" />
          <el-option value="folder" label="a folder of the service" />
        </el-select>
      </label>
      <label v-if="draft.place === 'folder'" class="wide"
        >Folder <el-input v-model="draft.folder" name="folder" placeholder="/srv/inventory"
      /></label>
      <template v-else>
        <label class="wide"
          >Address <el-input v-model="draft.url" name="url" placeholder="https://desk.example/v1/machines"
        /></label>
        <label
          >Signs in by
          <el-select v-model="draft.by" aria-label="How we sign in">
            <el-option value="none" label="nothing" />
            <el-option value="bearer" label="a token" />
            <el-option value="basic" label="a user and a password" />
            <el-option value="oauth2" label="OAuth 2.0 client credentials" />
            <el-option value="certificate" label="a certificate (mutual TLS)" />
          </el-select>
        </label>
        <label v-if="draft.by === 'basic'">User <el-input v-model="draft.user" name="user" /></label>
        <template v-if="draft.by === 'oauth2'">
          <label>Client <el-input v-model="draft.client_id" name="client_id" /></label>
          <label>Scopes <el-input v-model="draft.scopes" name="scopes" placeholder="parted by spaces" /></label>
          <label class="wide"
            >Tokens from <el-input v-model="draft.token_url" name="token_url" placeholder="https://desk.example/token"
          /></label>
        </template>
        <label v-if="draft.by === 'certificate'" class="wide"
          >Certificate
          <el-input
            v-model="draft.certificate"
            name="certificate"
            type="textarea"
            placeholder="-----BEGIN CERTIFICATE-----"
        /></label>
        <template v-if="draft.by !== 'none'">
          <label :class="{ wide: draft.by === 'certificate' }"
            >{{ draft.by === 'certificate' ? 'Its key' : 'Secret' }}
            <el-input
              v-model="draft.secret"
              name="secret"
              :type="draft.by === 'certificate' ? 'textarea' : 'password'"
              autocomplete="off"
              :placeholder="there ? 'empty: the one there is' : 'kept encrypted, never shown again'"
          /></label>
          <label
            >It ends on
            <el-date-picker v-model="draft.secret_until" name="secret_until" type="date" value-format="YYYY-MM-DD"
          /></label>
        </template>
      </template>
    </div>
  </section>
</template>

<style scoped>
section {
  border-top: 1px solid var(--rule);
  padding: 14px 0 4px;
}
</style>
