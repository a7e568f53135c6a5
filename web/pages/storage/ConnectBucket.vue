<script setup lang="ts">
/** An S3-compatible bucket: where it is, with which keys; tried before it is connected. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import CheckField from '../../design/CheckField.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import SelectField from '../../design/SelectField.vue';
import TextField from '../../design/TextField.vue';
import { useAct } from '../../stores/load';
import CheckSteps from './CheckSteps.vue';

const emit = defineEmits<{ connected: [name: string] }>();
const given = ref({ name: '', endpoint: '', region: 'us-east-1', bucket: '', prefix: '', addressing: 'path' as 'path' | 'host', accessKeyId: '', secretAccessKey: '' });
const fromEnvironment = ref(false);
const checked = ref(0);
const place = computed(() => ({
  endpoint: given.value.endpoint, region: given.value.region, bucket: given.value.bucket, prefix: given.value.prefix, addressing: given.value.addressing,
  keys: fromEnvironment.value ? null : { accessKeyId: given.value.accessKeyId, secretAccessKey: given.value.secretAccessKey },
}));
const { busy, problem, run } = useAct();
async function connect(): Promise<void> {
  if (await run(() => call('/storages', { body: { name: given.value.name, kind: 's3', ...place.value } }))) emit('connected', given.value.name.trim());
}
</script>

<template>
  <form class="grid grid-cols-3 gap-x-3 gap-y-2" aria-label="Connect a bucket" @submit.prevent="connect">
    <TextField v-model="given.name" label="Name here" placeholder="bay-archive" required />
    <TextField v-model="given.endpoint" mono class="col-span-2" label="Address of the store" placeholder="https://store.example.org" required />
    <TextField v-model="given.bucket" mono label="Bucket" required />
    <TextField v-model="given.prefix" mono label="Folder in the bucket, or nothing for all of it" />
    <span class="grid grid-cols-2 gap-3"><TextField v-model="given.region" mono label="Region" /><SelectField v-model="given.addressing" label="Bucket's name in" :choices="[{ value: 'path', words: 'the path' }, { value: 'host', words: 'the host' }]" /></span>
    <TextField v-model="given.accessKeyId" mono label="Access key" :required="!fromEnvironment" />
    <TextField v-model="given.secretAccessKey" mono type="password" label="Secret key" :required="!fromEnvironment" hint="Kept sealed in the data folder, never shown again." />
    <span class="pt-5"><CheckField v-model="fromEnvironment" label="use the keys of the server's environment" /></span>
    <ProblemBox v-if="problem" class="col-span-3" :problem="problem" />
    <p class="col-span-3 flex gap-2.5"><BaseButton look="strong" type="submit" :disabled="busy">Connect the bucket</BaseButton><BaseButton :disabled="!given.endpoint || !given.bucket" @click="checked++">Check it first</BaseButton></p>
    <CheckSteps v-if="checked > 0" :key="checked" class="col-span-3" path="/storages/check" :body="place" />
  </form>
</template>
