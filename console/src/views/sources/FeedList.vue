<script setup lang="ts">
// Where partners' inventories are fetched, and how the last run of each went.
import { computed } from 'vue'
import { api, must } from '../../api/client'
import ProblemNote from '../../components/ProblemNote.vue'
import TimeText from '../../components/TimeText.vue'
import { useLoad } from '../../composables/useLoad'
import { useTick } from '../../composables/useTick'
import { useSession } from '../../stores/session'

const session = useSession()
const tick = useTick(3000)
const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/feeds')),
  () => tick.value,
)
const may = computed(() => session.can('POST /api/v1/feeds'))
</script>

<template>
  <p class="soft">
    A feed fetches a partner's inventory on a schedule and turns what it says into reports of a source. A partner that
    is away takes nothing from any device: what it said grows stale.
  </p>
  <p v-if="may"><router-link :to="{ name: 'feed-new' }">Set up a feed…</router-link></p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-if="!data && loading" :rows="6" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">
    There is none yet. Evidence comes from agents, tokens and files until then.
  </p>
  <div v-else-if="data" class="scrolls">
    <table class="ruled">
      <thead>
        <tr>
          <th>Feed</th>
          <th>Brings</th>
          <th>From</th>
          <th>Last run</th>
          <th class="number">Items</th>
          <th class="number">Rejected</th>
          <th class="number">Gone</th>
          <th>Next</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in data.items" :key="f.feed.id">
          <td>
            <router-link :to="{ name: 'feed', params: { id: f.feed.id } }">{{ f.feed.id }}</router-link>
            <div class="soft small">{{ f.feed.title }}</div>
          </td>
          <td>
            {{ f.feed.kind }}
            <div v-if="f.feed.source" class="soft small">as {{ f.feed.source }}</div>
          </td>
          <td class="where">
            <code>{{ f.feed.url || f.feed.folder }}</code>
          </td>
          <td>
            <template v-if="f.running">
              <strong>running</strong>
              <div class="soft small">{{ f.running.items }} items so far</div>
            </template>
            <template v-else-if="f.runs[0]">
              <strong :class="{ bad: f.runs[0].outcome === 'failed' }">{{ f.runs[0].outcome }}</strong>
              <div class="soft small"><TimeText :time="f.runs[0].started_at" /></div>
            </template>
            <template v-else>never</template>
            <div v-if="f.runs[0]?.error || f.runs[0]?.gone_held" class="bad small">
              {{ f.runs[0].error || f.runs[0].gone_held }}
            </div>
          </td>
          <td class="number">{{ f.runs[0]?.items ?? '' }}</td>
          <td class="number">{{ f.runs[0]?.rejected ?? '' }}</td>
          <td class="number">{{ f.runs[0]?.gone ?? '' }}</td>
          <td>
            <template v-if="f.status === 'paused'"
              ><strong>paused</strong>
              <div class="soft small">{{ f.by }}: {{ f.reason }}</div></template
            >
            <TimeText v-else-if="f.next_at" :time="f.next_at" />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.number {
  text-align: right;
}
.bad {
  color: var(--metal);
}
.where {
  max-width: 300px;
  overflow-wrap: anywhere;
}
</style>
