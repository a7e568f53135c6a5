import { createRouter, createWebHistory } from 'vue-router';

/** URLs hold the state, so that a link shows a colleague the same thing. */
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/storage' },
    { path: '/storage/:storage?/:path(.*)*', name: 'storage', component: () => import('./pages/storage/StoragePage.vue'), meta: { place: 'Storage' } },
    { path: '/crawls', name: 'crawls', component: () => import('./pages/crawls/CrawlsPage.vue'), meta: { place: 'Crawls' } },
    { path: '/crawls/of/:crawl(\\d+)', name: 'crawl', component: () => import('./pages/crawls/CrawlPage.vue'), meta: { place: 'Crawls' } },
    { path: '/crawls/:run(\\d+)', name: 'crawl-run', component: () => import('./pages/crawls/RunPage.vue'), meta: { place: 'Crawls' } },
    { path: '/catalog-changes', name: 'revisions', component: () => import('./pages/catalog/RevisionsPage.vue'), meta: { place: 'Catalog' } },
    { path: '/catalog/:namespace?/:table?', name: 'catalog', component: () => import('./pages/catalog/CatalogPage.vue'), meta: { place: 'Catalog' } },
    { path: '/tables/:namespace/:table', name: 'table', component: () => import('./pages/table/TablePage.vue'), meta: { place: 'Catalog' } },
    { path: '/define', name: 'define', component: () => import('./pages/define/DefinePage.vue'), meta: { place: 'Catalog' } },
    { path: '/write', name: 'write', component: () => import('./pages/write/WritePage.vue'), meta: { place: 'Query' } },
    { path: '/query', name: 'query', component: () => import('./pages/query/QueryPage.vue'), meta: { place: 'Query' } },
    { path: '/access', name: 'access', component: () => import('./pages/access/AccessPage.vue'), meta: { place: 'Access' } },
    { path: '/:rest(.*)*', name: 'nowhere', component: () => import('./pages/NowherePage.vue') },
  ],
});
