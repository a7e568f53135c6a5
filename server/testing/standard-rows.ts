/** Rows for the tables of TPC-H, enough of each for its queries to find some; columns and value lists by its specification, section 1.4 and 4.2. */
import { mkdirSync } from 'node:fs';
import path from 'node:path';
import { quoteText } from '../../core/sql/tokens';
import type { EngineCalls } from '../engine/engine';

const list = (...values: string[]) => `[${values.map((value) => `'${value}'`).join(', ')}]`;
/** A number below `many` that follows from the row and a salt. */
const below = (many: number, salt: number) => `(hash(i * 31 + ${salt}) % ${many})`;
const one = (values: string, many: number, salt: number) => `${values}[(${below(many, salt)} + 1)::BIGINT]`;
const date = (salt: number, days = 2400) => `(DATE '1992-01-01' + ${below(days, salt)}::INTEGER)`;
const money = (most: number, salt: number) => `(${below(most * 100, salt)} / 100.0)::DECIMAL(15,2)`;

const SEGMENTS = list('AUTOMOBILE', 'BUILDING', 'FURNITURE', 'MACHINERY', 'HOUSEHOLD');
const NATIONS = ['ALGERIA', 'ARGENTINA', 'BRAZIL', 'CANADA', 'EGYPT', 'ETHIOPIA', 'FRANCE', 'GERMANY', 'INDIA', 'INDONESIA', 'IRAN', 'IRAQ', 'JAPAN', 'JORDAN', 'KENYA', 'MOROCCO', 'MOZAMBIQUE', 'PERU', 'CHINA', 'ROMANIA', 'SAUDI ARABIA', 'VIETNAM', 'RUSSIA', 'UNITED KINGDOM', 'UNITED STATES'];
const REGION_OF = [0, 1, 1, 1, 4, 0, 3, 3, 2, 2, 4, 4, 2, 4, 0, 0, 0, 1, 2, 3, 4, 2, 3, 3, 1];

export const TPCH_ROWS: Record<string, string> = {
  region: `SELECT i::INTEGER AS r_regionkey, ${list('AFRICA', 'AMERICA', 'ASIA', 'EUROPE', 'MIDDLE EAST')}[i + 1] AS r_name, '' AS r_comment FROM range(5) r(i)`,
  nation: `SELECT i::INTEGER AS n_nationkey, ${list(...NATIONS)}[i + 1] AS n_name, [${REGION_OF.join(', ')}][i + 1]::INTEGER AS n_regionkey, '' AS n_comment FROM range(25) r(i)`,
  supplier: `SELECT i AS s_suppkey, 'Supplier#' || lpad(i::VARCHAR, 9, '0') AS s_name, 'address ' || i AS s_address, ${below(25, 1)}::INTEGER AS s_nationkey, '1' AS s_phone, ${money(9000, 2)} AS s_acctbal, CASE WHEN i % 17 = 0 THEN 'x Customer y Complaints z' ELSE 'fine' END AS s_comment FROM range(1, 101) r(i)`,
  customer: `SELECT i AS c_custkey, 'Customer#' || i AS c_name, 'a' AS c_address, ${below(25, 3)}::INTEGER AS c_nationkey, (10 + ${below(25, 4)})::VARCHAR || '-555' AS c_phone, (${money(10000, 5)} - 900)::DECIMAL(15,2) AS c_acctbal, ${one(SEGMENTS, 5, 6)} AS c_mktsegment, '' AS c_comment FROM range(1, 601) r(i)`,
  part: `SELECT i AS p_partkey, ${one(list('green', 'forest', 'lemon', 'misty'), 4, 7)} || ' ' || i AS p_name, 'Manufacturer#1' AS p_mfgr, 'Brand#' || (1 + ${below(5, 8)}) || (1 + ${below(5, 9)}) AS p_brand, ${one(list('PROMO', 'STANDARD', 'MEDIUM', 'ECONOMY'), 4, 10)} || ' ' || ${one(list('ANODIZED', 'POLISHED'), 2, 11)} || ' ' || ${one(list('STEEL', 'BRASS', 'TIN'), 3, 12)} AS p_type, (1 + ${below(50, 13)})::INTEGER AS p_size, ${one(list('SM', 'MED', 'LG', 'JUMBO'), 4, 14)} || ' ' || ${one(list('BOX', 'CASE', 'PACK', 'BAG', 'PKG'), 5, 15)} AS p_container, ${money(2000, 16)} AS p_retailprice, '' AS p_comment FROM range(1, 801) r(i)`,
  partsupp: `SELECT i // 4 + 1 AS ps_partkey, (i * 7) % 100 + 1 AS ps_suppkey, ${below(9999, 17)}::INTEGER AS ps_availqty, ${money(1000, 18)} AS ps_supplycost, '' AS ps_comment FROM range(3200) r(i)`,
  orders: `SELECT i AS o_orderkey, 1 + ${below(600, 19)} AS o_custkey, ${one(list('F', 'O', 'P'), 3, 20)} AS o_orderstatus, ${money(300000, 21)} AS o_totalprice, ${date(22)} AS o_orderdate, ${one(list('1-URGENT', '2-HIGH', '3-MEDIUM', '4-NOT SPECIFIED', '5-LOW'), 5, 23)} AS o_orderpriority, 'Clerk' AS o_clerk, 0 AS o_shippriority, CASE WHEN i % 9 = 0 THEN 'the special old requests' ELSE '' END AS o_comment FROM range(1, 6001) r(i)`,
  lineitem: `SELECT i // 4 + 1 AS l_orderkey, 1 + ${below(800, 24)} AS l_partkey, 1 + ${below(100, 25)} AS l_suppkey, (i % 4 + 1)::INTEGER AS l_linenumber, CASE WHEN (i // 4) % 200 = 0 THEN 90 ELSE 1 + ${below(50, 26)} END::DECIMAL(15,2) AS l_quantity, ${money(90000, 27)} AS l_extendedprice, (${below(11, 28)} / 100.0)::DECIMAL(15,2) AS l_discount, (${below(9, 29)} / 100.0)::DECIMAL(15,2) AS l_tax, ${one(list('R', 'A', 'N'), 3, 30)} AS l_returnflag, ${one(list('O', 'F'), 2, 31)} AS l_linestatus, ${date(32, 2500)} AS l_shipdate, ${date(33, 2500)} AS l_commitdate, ${date(34, 2500)} AS l_receiptdate, ${one(list('DELIVER IN PERSON', 'COLLECT COD', 'NONE'), 3, 35)} AS l_shipinstruct, ${one(list('AIR', 'MAIL', 'SHIP', 'TRUCK', 'AIR REG'), 5, 36)} AS l_shipmode, '' AS l_comment FROM range(24000) r(i)`,
};

/** One Parquet file in the folder. */
export async function makeRows(engine: EngineCalls, table: string, folder: string): Promise<void> {
  mkdirSync(folder, { recursive: true });
  await engine.call('run', { sql: `COPY (${TPCH_ROWS[table]!}) TO ${quoteText(path.join(folder, 'part-0.parquet'))} (FORMAT parquet)` });
}
