<script setup lang="ts">
/** A PostgreSQL database: where it is, as whom; tried before it is connected. It is only read. */
import { computed, ref } from 'vue';
import { call } from '../../api/client';
import BaseButton from '../../design/BaseButton.vue';
import CheckField from '../../design/CheckField.vue';
import ProblemBox from '../../design/ProblemBox.vue';
import TextField from '../../design/TextField.vue';
import { useAct } from '../../stores/load';
import CheckSteps from './CheckSteps.vue';

const emit = defineEmits<{ connected: [name: string] }>();
const given = ref({ name: '', host: '', port: '5432', database: '', user: '', password: '', ssl: false });
const checked = ref(0);
const place = computed(() => ({ kind: 'postgres', host: given.value.host, port: Number(given.value.port), database: given.value.database, user: given.value.user, password: given.value.password, ssl: given.value.ssl }));
const { busy, problem, run } = useAct();
async function connect(): Promise<void> {
  if (await run(() => call('/storages', { body: { name: given.value.name, ...place.value } }))) emit('connected', given.value.name.trim());
}
</script>

<template>
  <form class="grid grid-cols-3 gap-x-3 gap-y-2" aria-label="Connect a database" @submit.prevent="connect">
    <TextField v-model="given.name" label="Name here" placeholder="fleet-books" required /><TextField v-model="given.host" mono label="Host" placeholder="db.example.org" required /><TextField v-model="given.port" mono label="Port" required />
    <TextField v-model="given.database" mono label="Database" required /><TextField v-model="given.user" mono label="User" required /><TextField v-model="given.password" mono type="password" label="Password" hint="Kept sealed in the data folder, never shown again." />
    <CheckField v-model="given.ssl" class="col-span-3" label="over TLS, with a certificate that this machine trusts" />
    <ProblemBox v-if="problem" class="col-span-3" :problem="problem" />
    <p class="col-span-3 flex gap-2.5"><BaseButton look="strong" type="submit" :disabled="busy">Connect the database</BaseButton><BaseButton :disabled="!given.host || !given.database || !given.user" @click="checked++">Check it first</BaseButton></p>
    <CheckSteps v-if="checked > 0" :key="checked" class="col-span-3" path="/storages/check" :body="place" />
  </form>
</template>
