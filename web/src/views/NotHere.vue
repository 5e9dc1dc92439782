<template>
  <main class="page">
    <div class="headline"><h1>There is nothing at this address.</h1></div>
    <p class="empty">
      The thing may have been renamed or removed. <RouterLink class="act" to="/">Go to the barn</RouterLink>
    </p>
  </main>
</template>
