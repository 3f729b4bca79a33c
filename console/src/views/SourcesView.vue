<template>
  <header class="tabbed">
    <h1>Sources</h1>
    <nav aria-label="Sources">
      <router-link :to="{ name: 'sources' }" exact-active-class="on">What they say</router-link>
      <router-link :to="{ name: 'feeds' }" :class="{ on: $route.path.startsWith('/sources/feeds') }">Feeds</router-link>
    </nav>
  </header>
  <router-view />
</template>
