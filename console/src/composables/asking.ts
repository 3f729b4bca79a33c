import { api, must, type Evaluation } from '../api/client'

/** The fields of a question, as they stand in a URL. */
export interface Asking {
  person?: string
  device?: string
  resource?: string
  action?: string
  ip?: string
  country?: string
  mfa?: string
  proof?: string
}

/** A question as the service takes it; what is not said is left out. */
export function evaluationOf(q: Asking): Evaluation {
  return {
    subject: { type: 'user', id: q.person || 'everybody' },
    resource: { type: 'resource', id: q.resource || 'everything' },
    action: { name: q.action || 'open' },
    context: {
      ...(q.device && { device: { id: q.device } }),
      ...(q.ip && { ip: q.ip }),
      ...(q.country && { country: q.country }),
      ...((q.proof === 'certificate' || q.proof === 'address') && { proof: q.proof }),
      ...(q.mfa && { auth: { mfa: q.mfa === 'yes' } }),
    },
  }
}

type Show = (found: { value: string; note: string }[]) => void

/** Finds people for a field that completes. */
export async function people(part: string, show: Show) {
  const found = await must(api.GET('/api/v1/people', { params: { query: { q: part, limit: 12 } } }))
  show(found.items.map((p) => ({ value: p.id, note: `${p.name ?? ''}: ${(p.groups ?? []).join(', ')}` })))
}

/** Finds devices for a field that completes. */
export async function devices(part: string, show: Show) {
  const found = await must(api.GET('/api/v1/devices', { params: { query: { q: part, limit: 12 } } }))
  show(found.items.map((d) => ({ value: d.id, note: `${d.name ?? ''}, ${d.level}` })))
}
