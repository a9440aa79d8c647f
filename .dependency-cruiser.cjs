// The table of docs/architecture.md as rules: which layer may import which. Broken rules fail `./inkset test`.
const only = (name, from, allowed, comment) => ({
  name,
  comment,
  severity: 'error',
  from: { path: from, pathNot: '\\.test\\.tsx?$' },
  to: { path: '^(src|backlot|demo|cli|bench|tests)/', pathNot: allowed },
});
// The floors of src/server, lowest first (docs/architecture.md): each room uses what lies below it, and nothing beside or above.
const FLOORS = [
  ['platform', '(db|clock|dns|fetch)/|[^/]+\\.ts$'],
  ...[
    'mail',
    'auth',
    'newsletters',
    'senders',
    'readers',
    'forms',
    'writing',
    'sending',
    'autosend',
    'series',
    'delivery',
    'keeping',
    'transfer',
    'growth',
    'site',
    'public',
    'jobs',
  ].map((room) => [room, `${room}/`]),
];
const floors = FLOORS.slice(0, -1).map(([room, path], n) => ({
  name: `floor-of-${room}`,
  comment: `${room} lies below ${FLOORS.slice(n + 1)
    .map(([above]) => above)
    .join(', ')}`,
  severity: 'error',
  from: { path: `^src/server/(${path})`, pathNot: '\\.test\\.ts$' },
  to: {
    path: `^src/server/(${FLOORS.slice(n + 1)
      .map(([, above]) => above)
      .join('|')})`,
  },
}));

module.exports = {
  forbidden: [
    ...floors,
    only('core-stands-alone', '^src/core/', '^src/core/', 'core is computation only'),
    only('server-knows-core', '^src/server/', '^src/(core|server)/', 'server imports core and server'),
    only('ui-knows-core', '^src/ui/', '^src/(core|ui)/', 'ui imports core and ui; actions come in as props'),
    only('app-knows-src', '^src/app/', '^src/(core|server|ui|app)/', 'app imports everything but the Backlot'),
    {
      name: 'embed-stays-small',
      comment: 'the embed scripts carry small rules of core and nothing else; types weigh nothing',
      severity: 'error',
      from: { path: '^src/embed/', pathNot: '\\.test\\.ts$' },
      to: { path: '.', pathNot: '^src/(embed/|core/forms/(targeting|work|selector))', dependencyTypesNot: ['type-only'] },
    },
    only('processes-know-server', '^src/processes/', '^src/(core|server|processes)/', 'processes mount server functions'),
    only('backlot-is-outside', '^backlot/', '^backlot/', 'the Backlot talks by SMTP, DNS and HTTP alone'),
    // What a provider of the Backlot would have reported, and what its public does, stand in pure files of it.
    only(
      'demo-knows-server',
      '^demo/',
      '^(demo/|src/(core|server)/|backlot/(mailboxes/dmarc|public/(chance|people))[.]ts)',
      'the demo generator uses server and core',
    ),
    {
      name: 'core-does-no-io',
      severity: 'error',
      from: { path: '^src/core/', pathNot: '\\.test\\.ts$' },
      to: {
        path: '^(fs|net|http|https|dns|dgram|child_process|worker_threads|react|next|kysely|pg)$|^node_modules/(react|next|kysely|pg|nodemailer|undici|graphile-worker)/',
        // Of the mail library only its pure encoders.
        pathNot: '^node_modules/nodemailer/dist/esm/(qp|mime-funcs)/',
      },
    },
    {
      name: 'no-database-in-pages',
      comment: 'queries stand in src/server, not in a page',
      severity: 'error',
      from: { path: '^src/app/' },
      to: { path: '^(node_modules/(kysely|pg)/|src/server/db/)' },
    },
    { name: 'no-circles', severity: 'error', from: {}, to: { circular: true } },
    {
      name: 'not-to-tests',
      severity: 'error',
      from: { pathNot: '(^tests/|\\.test\\.tsx?$)' },
      to: { path: '(^tests/|\\.test\\.tsx?$)' },
    },
  ],
  options: {
    tsConfig: { fileName: 'tsconfig.json' },
    tsPreCompilationDeps: true,
    doNotFollow: { path: 'node_modules' },
    exclude: { path: '^(\\.next|dist)/' },
    enhancedResolveOptions: { exportsFields: ['exports'], conditionNames: ['import', 'require', 'node', 'default', 'types'] },
  },
};
