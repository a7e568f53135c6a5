import { expect, it } from 'vitest';
import { distinctTableNames } from './distinct-names';

const at = (location: string, name = 'orders') => ({ namespace: 'shop', name, location });

it('leaves names that nobody else has, and puts the folders above before those that meet', () => {
  expect(distinctTableNames([at('in/north/orders'), at('in/south/orders'), at('in/crew', 'crew')], new Set())).toEqual([
    'north_orders',
    'south_orders',
    'crew',
  ]);
});
it('goes further up, then counts, and takes no name that a table of the catalog has', () => {
  expect(distinctTableNames([at('a/x/orders'), at('b/x/orders')], new Set())).toEqual(['x_orders', 'b_x_orders']);
  expect(distinctTableNames([at('orders'), at('orders')], new Set(['shop.orders_2']))).toEqual([
    'orders_3',
    'orders_4',
  ]);
  expect(distinctTableNames([at('in/orders')], new Set(['shop.orders']))).toEqual(['in_orders']);
});
