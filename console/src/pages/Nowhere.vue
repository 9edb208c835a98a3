<template>
  <h1 class="answer">There is no page at this address.</h1>
  <p class="mt-2 text-second">
    The <RouterLink class="underline" to="/fleet">fleet</RouterLink> is a good place to start.
  </p>
</template>
