// What an act would do, told before it is done.
import type { ListIntake, ReportResult } from '../api/client'

export interface Preview {
  /** Why it would be held back: it locks people out. */
  held: string[]
  does: string[]
}

/** What changing a list of people or of hardware would do. */
export function ofList(intake: ListIntake): Preview {
  return {
    held: (intake.impacts ?? []).map((x) => x.message),
    does: (intake.reach?.persons ?? [])
      .slice(0, 20)
      .map((p) =>
        [
          p.person,
          p.lost.length ? ` loses ${p.lost.join(', ')}` : '',
          p.lost.length && p.gained.length ? ' and' : '',
          p.gained.length ? ` gains ${p.gained.join(', ')}` : '',
        ].join(''),
      ),
  }
}

/** What joining a report to a device would do to the keys of devices. */
export function ofJoin(taken: ReportResult): Preview {
  return {
    held: [],
    does: [
      ...(taken.moved ?? []).map(
        (k) =>
          `${k.kind} ${k.text}${k.from ? `, until now that of ${k.from},` : ''} ${k.to ? `would point at ${k.to}` : 'would point at no device'}.`,
      ),
      ...(taken.level
        ? [
            `${taken.device} would stand at ${taken.level}${taken.previous_level && taken.previous_level !== taken.level ? `, not ${taken.previous_level}` : ''}.`,
          ]
        : []),
    ],
  }
}
