import { createRouter } from 'sv-router';
import Now from './pages/Now.svelte';

export const { p, navigate, route } = createRouter({
  '/': Now,
  '/pipelines': () => import('./pages/Pipelines.svelte'),
  '/new-pipeline': () => import('./pages/NewPipeline.svelte'),
  '/pipelines/:pipeline': () => import('./pages/Pipeline.svelte'),
  '/pipelines/:pipeline/:number': () => import('./pages/Build.svelte'),
  '/stores': () => import('./pages/Stores.svelte'),
  '/stores/:store': () => import('./pages/Store.svelte'),
  '/stores/:store/:name': () => import('./pages/Name.svelte'),
  '/stores/:store/:name/:version': () => import('./pages/Version.svelte'),
  '/agents': () => import('./pages/Agents.svelte'),
  '/records': () => import('./pages/Records.svelte'),
  '/trace/:digest': () => import('./pages/Trace.svelte'),
  '*notfound': () => import('./pages/Missing.svelte'),
});
