<template>
  <svg viewBox="0 0 28 24" class="h-[21px] w-[25px]" fill="none" stroke="currentColor" stroke-width="3" aria-hidden="true">
    <path class="text-tide" stroke="currentColor" d="M1.5 14V8a5 5 0 0 1 5-5h5" />
    <path class="text-tide" stroke="currentColor" d="M8 21h13a5 5 0 0 0 5-5v-4h-7" />
    <circle cx="13.5" cy="12" r="2.6" fill="currentColor" stroke="none" />
  </svg>
</template>
