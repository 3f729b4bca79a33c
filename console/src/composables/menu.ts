import { useSession } from '../stores/session'

/** The pages as people work: they watch, write rules, give access, prove, and set up. Each names what it shows first, so
 * that nobody is led where they may not see it. */
const groups = [
  {
    name: 'Watch',
    pages: [
      ['/', 'Overview', 'GET /api/v1/overview'],
      ['/devices', 'Devices', 'GET /api/v1/devices'],
      ['/people', 'People', 'GET /api/v1/people'],
      ['/certificates', 'Certificates', 'GET /api/v1/certificates'],
      ['/sources', 'Sources', 'GET /api/v1/sources'],
    ],
  },
  {
    name: 'Rules',
    pages: [
      ['/rules', 'Rules', 'GET /api/v1/rules'],
      ['/rulebook', 'Rulebook', 'GET /api/v1/rulebooks/{version}'],
      ['/exceptions', 'Exceptions', 'GET /api/v1/waivers'],
    ],
  },
  {
    name: 'Access',
    pages: [
      ['/ask', 'Ask', 'POST /api/v1/ask'],
      ['/gates', 'Gates', 'GET /api/v1/gates'],
      ['/networks', 'Networks', 'GET /api/v1/networks'],
      ['/decisions', 'Decisions', 'GET /api/v1/decisions'],
    ],
  },
  {
    name: 'Proof',
    pages: [
      ['/ledger', 'Ledger', 'GET /api/v1/ledger'],
      ['/reports', 'Reports', 'GET /api/v1/reports'],
      ['/signals', 'Signals', 'GET /api/v1/streams'],
    ],
  },
  { name: 'Settings', pages: [['/tokens', 'Tokens', 'GET /api/v1/tokens']] },
] as const

export interface Page {
  to: string
  title: string
}
export interface Group {
  name: string
  pages: Page[]
}

/** The groups of pages that whoever is signed in may see. */
export function pagesFor(can: ReturnType<typeof useSession>['can']): Group[] {
  return groups
    .map((g) => ({
      name: g.name,
      pages: g.pages.filter(([, , shows]) => can(shows)).map(([to, title]) => ({ to, title })),
    }))
    .filter((g) => g.pages.length > 0)
}

/** Whether a path belongs to a page: it is the page's, or below it. */
export const below = (path: string, page: string) => path === page || (page !== '/' && path.startsWith(`${page}/`))
