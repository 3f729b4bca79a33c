<template>
  <header class="tabbed">
    <h1>Gates</h1>
    <nav aria-label="Gates">
      <router-link :to="{ name: 'gates' }" exact-active-class="on">By number</router-link>
      <router-link :to="{ name: 'coverage' }" active-class="on">Coverage</router-link>
      <router-link :to="{ name: 'sessions' }" active-class="on">Sessions</router-link>
    </nav>
  </header>
  <router-view />
</template>
