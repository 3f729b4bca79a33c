<template>
  <h1>There is no such page</h1>
  <p><router-link to="/devices">To the devices</router-link></p>
</template>
