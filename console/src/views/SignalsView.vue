<template>
  <header class="tabbed">
    <h1>Signals</h1>
    <nav aria-label="Signals">
      <router-link :to="{ name: 'signals' }" exact-active-class="on">Receivers</router-link>
      <router-link :to="{ name: 'notices' }" active-class="on">Notices to people</router-link>
    </nav>
  </header>
  <router-view />
</template>
