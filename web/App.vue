<script setup lang="ts">
import { onMounted } from 'vue';
import { useKeys } from './shell/keys';
import BottomStrip from './shell/BottomStrip.vue';
import TopBar from './shell/TopBar.vue';
import { useJobs } from './stores/jobs';
import { useSession } from './stores/session';

useKeys();
onMounted(() => {
  void useSession().load();
  void useJobs().load();
});
</script>

<template>
  <div class="grid h-full grid-rows-[46px_minmax(0,1fr)_30px]">
    <TopBar />
    <main id="main" class="min-h-0 min-w-0">
      <RouterView />
    </main>
    <BottomStrip />
  </div>
</template>
