<script setup lang="ts">
/** Columns of a table that is being defined, one a row. */
import type { ColumnRow } from './table-form';

const model = defineModel<ColumnRow[]>({ required: true });
/** `wrong`: the row that cannot be read. */
defineProps<{ wrong: number | undefined }>();
const TYPES = ['bigint', 'integer', 'varchar', 'double', 'float', 'boolean', 'date', 'timestamp', 'timestamptz', 'decimal(10,2)', 'uuid', 'time', 'blob', 'varchar[]', 'struct(lat double, lon double)', 'map(varchar, double)'];

function move(index: number, by: -1 | 1): void {
  const rows = [...model.value];
  [rows[index], rows[index + by]] = [rows[index + by]!, rows[index]!];
  model.value = rows;
}
</script>

<template>
  <div>
    <table class="w-full text-left">
      <thead><tr class="text-muted"><th class="w-40 font-normal">Name</th><th class="w-44 font-normal">Type</th><th class="w-[68px] font-normal">Required</th><th class="w-10 font-normal">Key</th><th class="font-normal">Description</th><th class="w-[108px]"><span class="sr-only">Order</span></th></tr></thead>
      <tbody>
        <tr v-for="(row, index) in model" :key="index" :class="index === wrong ? 'bg-rust-soft' : ''">
          <td class="py-0.5 pr-1.5"><input v-model="row.name" class="mono h-[27px] w-full border border-rule bg-card px-1.5" :aria-label="`Name of column ${index + 1}`" spellcheck="false"></td>
          <td class="pr-1.5"><input v-model="row.type" list="types" class="mono h-[27px] w-full border border-rule bg-card px-1.5" :aria-label="`Type of column ${index + 1}`" spellcheck="false"></td>
          <td class="text-center"><input v-model="row.required" type="checkbox" class="size-3.5 accent-(--tide)" :aria-label="`Column ${index + 1} is required`"></td>
          <td class="text-center"><input v-model="row.key" type="checkbox" class="size-3.5 accent-(--tide)" :aria-label="`Column ${index + 1} is part of the key`" @change="row.key && (row.required = true)"></td>
          <td class="pr-1.5"><input v-model="row.comment" class="h-[27px] w-full border border-rule bg-card px-1.5" :aria-label="`Description of column ${index + 1}`"></td>
          <td class="whitespace-nowrap text-muted">
            <button type="button" class="px-1 hover:text-ink disabled:opacity-30" :disabled="index === 0" :aria-label="`Column ${index + 1} up`" @click="move(index, -1)">↑</button>
            <button type="button" class="px-1 hover:text-ink disabled:opacity-30" :disabled="index === model.length - 1" :aria-label="`Column ${index + 1} down`" @click="move(index, 1)">↓</button>
            <button type="button" class="plain-link px-1" :aria-label="`Without column ${index + 1}`" @click="model.splice(index, 1)">remove</button>
          </td>
        </tr>
      </tbody>
    </table>
    <datalist id="types"><option v-for="type in TYPES" :key="type">{{ type }}</option></datalist>
    <button type="button" class="plain-link mt-1" @click="model.push({ name: '', type: 'varchar', required: false, key: false, comment: '' })">and a column</button>
  </div>
</template>
