<script setup lang="ts">
// What a rulebook would have answered to the requests of the last days.
import type { AccessShift } from '../api/client'
import { count } from '../composables/format'
import OutcomeMark from './OutcomeMark.vue'

defineProps<{ shift: AccessShift }>()
const parts = [
  { name: 'By gate', key: 'gates' },
  { name: 'By person', key: 'persons' },
  { name: 'By resource', key: 'resources' },
] as const
</script>

<template>
  <p class="sum">
    <strong>{{ count(shift.requests, 'request') }}</strong> of the last {{ shift.days }} days,
    {{ shift.distinct }} different ones of {{ count(shift.people, 'person', 'people') }}: {{ shift.newly_denied }} newly
    denied, {{ shift.newly_stepped_up }} newly asked for a second factor, {{ shift.newly_allowed }} newly
    allowed<template v-if="shift.granted_otherwise"
      >, {{ shift.granted_otherwise }} granted something else on their network</template
    >.
  </p>
  <p v-if="shift.locked_out.length" class="bad">
    Locked out of everything they reach today: {{ shift.locked_out.join(', ') }}
  </p>
  <p v-for="text in shift.raised" :key="text">{{ text.charAt(0).toUpperCase() + text.slice(1) }}.</p>
  <p v-if="shift.changes.length === 0" class="soft">No answer would change.</p>
  <template v-else>
    <div class="bends">
      <div v-for="p in parts" :key="p.key">
        <h3>{{ p.name }}</h3>
        <ul>
          <li v-for="c in shift[p.key].slice(0, 6)" :key="c.id">
            {{ c.id }} <span v-if="c.denied" class="bad">{{ c.denied }} denied</span>
            <span v-if="c.stepped_up">{{ c.stepped_up }} step-up</span>
            <span v-if="c.allowed" class="good">{{ c.allowed }} allowed</span>
          </li>
        </ul>
      </div>
    </div>
    <table class="ruled">
      <thead>
        <tr>
          <th>Person</th>
          <th>Asked</th>
          <th>Device</th>
          <th>Now</th>
          <th>Then</th>
          <th>By</th>
          <th>Times</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="c in shift.changes.slice(0, 200)"
          :key="c.person + c.device + c.resource + c.action + c.from + c.times"
        >
          <td>
            <router-link :to="{ name: 'decisions', query: { person: c.person, resource: c.resource } }">{{
              c.person
            }}</router-link>
          </td>
          <td>
            {{ c.action }} <strong>{{ c.resource }}</strong>
          </td>
          <td>
            <router-link v-if="c.device" :to="{ name: 'device', params: { id: c.device } }">{{ c.device }}</router-link>
            <span v-else class="soft">unknown</span>
          </td>
          <td>
            <OutcomeMark :outcome="c.from" />
            <div class="soft small">{{ c.from_grant }}</div>
          </td>
          <td>
            <OutcomeMark :outcome="c.to" />
            <div class="soft small">{{ c.to_grant }}</div>
          </td>
          <td>{{ c.gates.join(', ') }}<span v-if="c.by_level" class="soft small"> its level changes</span></td>
          <td>{{ c.times }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
.sum {
  font-size: 17px;
}
.bends {
  display: flex;
  gap: 20px 48px;
  flex-wrap: wrap;
  margin-bottom: 12px;
}
.bends ul {
  list-style: none;
  padding: 0;
  margin: 6px 0;
}
.bad {
  color: var(--metal);
  font-weight: 600;
}
.good {
  color: var(--good);
  font-weight: 600;
}
</style>
