<script setup lang="ts">
import { num } from '../../composables/format'
import { api, must } from '../../api/client'
import ProblemNote from '../../components/ProblemNote.vue'
import { useLoad } from '../../composables/useLoad'

const { data, problem, loading, again } = useLoad(
  () => must(api.GET('/api/v1/gates')),
  () => null,
)
</script>

<template>
  <p class="soft">
    Who may reach what, and what it takes. People speak of gates by number. The last columns are what each said to the
    requests of the last week.
  </p>
  <ProblemNote v-if="problem" :problem="problem" @again="again" />
  <el-skeleton v-else-if="!data && loading" :rows="8" animated />
  <p v-else-if="data && data.items.length === 0" class="soft">
    The rulebook in force has no gates: what it says of unmatched requests holds for all.
  </p>
  <table v-else-if="data" class="ruled">
    <thead>
      <tr>
        <th>No</th>
        <th>Gate</th>
        <th>Who</th>
        <th>What</th>
        <th>Needs</th>
        <th class="right">Met</th>
        <th class="right">Denied</th>
        <th class="right">Step-up</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="g in data.items" :key="g.id" :class="{ quiet: g.mode !== 'enforce' }">
        <td>
          <strong>{{ g.number }}</strong>
        </td>
        <td>
          <router-link :to="{ name: 'gate-form', query: { gate: g.id } }">{{ g.title || g.id }}</router-link>
          <div class="soft small">
            {{ g.id
            }}<span v-if="g.mode !== 'enforce'" class="mode">{{
              g.mode === 'shadow' ? 'shadow, no effect' : 'draft, ignored'
            }}</span>
          </div>
        </td>
        <td>{{ g.who }}</td>
        <td>{{ g.what }}</td>
        <td class="need">
          <code>{{ g.need }}</code>
          <div class="soft small">
            <template v-if="g.when"
              >when <code>{{ g.when }}</code>; </template
            >else {{ g.otherwise }}; holds {{ g.valid_for }}
          </div>
        </td>
        <td class="right">{{ num(g.week.met, '·') }}</td>
        <td class="right">
          <router-link v-if="g.week.denied" :to="{ name: 'decisions', query: { gate: g.id, outcome: 'deny' } }">{{
            num(g.week.denied)
          }}</router-link>
          <template v-else>·</template>
        </td>
        <td class="right">
          <router-link
            v-if="g.week.stepped_up"
            :to="{ name: 'decisions', query: { gate: g.id, outcome: 'step-up' } }"
            >{{ num(g.week.stepped_up) }}</router-link><template v-else>·</template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.right {
  text-align: right;
  white-space: nowrap;
}
.need {
  max-width: 340px;
}
.quiet td {
  color: var(--ink-soft);
}
.mode {
  margin-left: 8px;
  border: 1px solid var(--rule);
  padding: 0 6px;
}
</style>
