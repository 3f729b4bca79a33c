// What setting a feed up puts together: a mapping of what stands where in a partner's items.
import type { FeedPlace, FeedSettings } from '../api/client'

/** A place in a partner's items as a person maps it: to what, and how it is read. */
export interface Mapped {
  at: string
  values: string[]
  target: string
  words: string
  form: string
  unit: string
}

/** The guesses of the service, for a person to look at. */
export const mappedOf = (places: FeedPlace[]): Mapped[] =>
  places.map((p) => ({
    at: p.at,
    values: p.values,
    target: p.target ?? '',
    words: Object.entries(p.words ?? {})
      .map(([said, word]) => `${said}: ${String(word)}`)
      .join(', '),
    form: p.form ?? '',
    unit: p.unit ?? '',
  }))

/** Words as they are typed, "Yes: true, No: false", as a mapping has them. */
export function wordsOf(text: string): Record<string, string | boolean> {
  const out: Record<string, string | boolean> = {}
  for (const pair of text.split(',')) {
    const at = pair.lastIndexOf(':')
    const said = pair.slice(0, at).trim()
    const word = pair.slice(at + 1).trim()
    if (at > 0 && said && word) out[said] = word === 'true' ? true : word === 'false' ? false : word
  }
  return out
}

type Field = string | Record<string, unknown>

/** The mapping that rows make; items is where the list of items stands. */
export function mappingOf(rows: Mapped[], items: string): Record<string, unknown> {
  const out: Record<string, unknown> = items ? { items } : {}
  for (const r of rows) {
    if (!r.target) continue
    const words = wordsOf(r.words)
    const more = {
      ...(Object.keys(words).length > 0 && { words }),
      ...(r.form.trim() && { form: r.form.trim() }),
      ...(r.unit.trim() && { unit: r.unit.trim() }),
    }
    const field: Field = Object.keys(more).length > 0 ? { from: r.at, ...more } : r.at
    const dot = r.target.indexOf('.')
    if (dot < 0) {
      out[r.target] = field
      continue
    }
    const section = r.target.slice(0, dot)
    const within = (out[section] ??= {}) as Record<string, Field>
    within[r.target.slice(dot + 1)] = field
  }
  return out
}

/** The rows of a mapping that is there, laid over what the partner's items have. */
export function rowsOf(mapping: Record<string, unknown>, places: FeedPlace[]): Mapped[] {
  const rows = mappedOf(places).map((r) => ({ ...r, target: '', words: '', form: '', unit: '' }))
  const put = (target: string, field: unknown) => {
    const f = typeof field === 'string' ? { from: field } : (field as Record<string, unknown>)
    const at = String(f.from ?? '')
    let row = rows.find((r) => r.at === at || r.at === `/${at}`)
    if (!row) rows.push((row = { at, values: [], target: '', words: '', form: '', unit: '' }))
    row.target = target
    row.words = Object.entries((f.words as Record<string, unknown>) ?? {})
      .map(([said, word]) => `${said}: ${String(word)}`)
      .join(', ')
    row.form = String(f.form ?? '')
    row.unit = String(f.unit ?? '')
  }
  for (const [name, field] of Object.entries(mapping)) {
    if (name === 'observed_at' || name === 'vouch') put(name, field)
    if (name === 'identity' || name === 'evidence' || name === 'person')
      for (const [key, f] of Object.entries(field as Record<string, unknown>)) put(`${name}.${key}`, f)
  }
  return rows
}

/** Whether rows can show all that a mapping says: what cannot be shown is changed in a file. */
export const simple = (mapping: Record<string, unknown>) =>
  !JSON.stringify(mapping).match(/"(each|is)":/) && !('source' in mapping)

const ours =
  /^(user|auth|request|resource|change)\.|^(level|action|known_device|on_roster|vouched|tags|retired|owner\.groups|id|seen_at|since)$/

/** What a mapping may set, of devices or of people. */
export function targetsOf(kind: 'devices' | 'people', names: { name: string }[]): string[] {
  if (kind === 'people') return ['id', 'name', 'groups', 'mail', 'language'].map((n) => `person.${n}`)
  return [
    ...['external_id', 'serial', 'hardware_id', 'id'].map((n) => `identity.${n}`),
    'observed_at',
    'vouch',
    ...names.filter((n) => !ours.test(n.name)).map((n) => `evidence.${n.name}`),
  ]
}

type SignIn = NonNullable<FeedSettings['sign_in']>
type Pages = NonNullable<FeedSettings['pages']>

/** A feed as it stands in the form. */
export interface FeedDraft {
  id: string
  title: string
  kind: 'devices' | 'people'
  source: string
  place: 'url' | 'folder'
  url: string
  folder: string
  by: NonNullable<SignIn['by']>
  user: string
  client_id: string
  token_url: string
  scopes: string
  certificate: string
  secret: string
  secret_until: string
  pages: NonNullable<Pages['by']>
  at: string
  parameter: string
  size_parameter: string
  size: string
  since: string
  every: string
  whole: boolean
}

/** The form of a feed that is there, or of none. */
export function draftOf(f?: FeedSettings, until?: string): FeedDraft {
  const [sign, pages] = [f?.sign_in ?? {}, f?.pages ?? {}]
  return {
    id: f?.id ?? '',
    title: f?.title ?? '',
    kind: f?.kind === 'people' ? 'people' : 'devices',
    source: f?.source ?? '',
    place: f?.folder ? 'folder' : 'url',
    url: f?.url ?? '',
    folder: f?.folder ?? '',
    by: sign.by ?? 'none',
    user: sign.user ?? '',
    client_id: sign.client_id ?? '',
    token_url: sign.token_url ?? '',
    scopes: (sign.scopes ?? []).join(' '),
    certificate: sign.certificate ?? '',
    secret: '',
    secret_until: until?.slice(0, 10) ?? '',
    pages: pages.by ?? 'none',
    at: pages.at ?? '',
    parameter: pages.parameter ?? '',
    size_parameter: pages.size_parameter ?? '',
    size: pages.size ? String(pages.size) : '',
    since: f?.since?.parameter ?? '',
    every: f?.every ?? '15m',
    whole: f?.whole ?? false,
  }
}

const given = (name: string, value: string) => (value.trim() ? { [name]: value.trim() } : {})

function signInOf(d: FeedDraft, was: FeedSettings | undefined): SignIn {
  return {
    by: d.by,
    ...(d.by === 'basic' && given('user', d.user)),
    ...(d.by === 'oauth2' && {
      ...given('client_id', d.client_id),
      ...given('token_url', d.token_url),
      ...(d.scopes.trim() && { scopes: d.scopes.trim().split(/\s+/) }),
    }),
    ...(d.by === 'certificate' && given('certificate', d.certificate)),
    ...given('trust', was?.sign_in?.trust ?? ''),
  }
}

function pagesOf(d: FeedDraft): Pages {
  return {
    by: d.pages,
    ...(d.pages === 'cursor' && given('at', d.at)),
    ...((d.pages === 'cursor' || d.pages === 'offset') && given('parameter', d.parameter)),
    ...(d.pages !== 'none' &&
      d.size_parameter.trim() && { size_parameter: d.size_parameter.trim(), size: Number(d.size) || 500 }),
  }
}

/** The settings that a form makes; was is the feed that is changed, some of which no field shows. */
export function settingsOf(d: FeedDraft, mapping: Record<string, unknown> | null, was?: FeedSettings): FeedSettings {
  const url = d.place === 'url'
  return {
    id: d.id.trim() || 'new',
    ...given('title', d.title),
    kind: d.kind,
    ...(d.kind === 'devices' && { source: d.source }),
    ...(url ? { url: d.url.trim() } : { folder: d.folder.trim() }),
    ...(was?.format && { format: was.format }),
    ...(url && { sign_in: signInOf(d, was), pages: pagesOf(d) }),
    ...(url && d.kind === 'devices' && d.since.trim() && { since: { ...was?.since, parameter: d.since.trim() } }),
    every: d.every.trim(),
    whole: d.whole,
    ...(mapping && { mapping }),
  }
}
