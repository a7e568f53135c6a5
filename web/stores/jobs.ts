import { defineStore } from 'pinia';
import { computed, ref } from 'vue';
import { call } from '../api/client';
import type { Job } from '../api/types';
import { useLive } from './live';

export const useJobs = defineStore('jobs', () => {
  const jobs = ref<Job[]>([]);
  const running = computed(() => jobs.value.filter((job) => job.state === 'running'));
  const failedToday = computed(() => jobs.value.filter((job) => job.state === 'failed' && Date.now() - new Date(job.startedAt).getTime() < 86_400_000));

  const load = async () => {
    jobs.value = await call<Job[]>('/jobs');
  };
  useLive((event) => {
    if (event.topic !== 'job') return;
    const index = jobs.value.findIndex((job) => job.id === event.job.id);
    if (index < 0) jobs.value.unshift(event.job);
    else jobs.value[index] = event.job;
  }, () => void load());

  const stop = (id: string) => call(`/jobs/${id}/cancel`, { method: 'POST', body: {} });
  return { jobs, running, failedToday, load, stop };
});
