import { defineStore } from 'pinia';
import { computed, ref, type Ref } from 'vue';
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

/** One job that a page starts, follows and may stop. */
export function useOwnJob(): { job: Ref<Job | undefined>; follow(jobId: string): Promise<void>; stop(): Promise<unknown> } {
  const job = ref<Job>();
  useLive((event) => {
    if (event.topic === 'job' && job.value && event.job.id === job.value.id) job.value = event.job;
  });
  return {
    job,
    follow: async (jobId) => {
      job.value = await call<Job>(`/jobs/${jobId}`);
    },
    stop: () => call(`/jobs/${job.value!.id}/cancel`, { body: {} }),
  };
}
