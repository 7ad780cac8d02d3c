/** What one line can have done. */
export const verbs = ['cycle', 'on', 'off', 'reset', 'shutdown', 'sleep', 'wake', 'restart']

/** The text of a routine of one step, as `plumb routine add` writes it. */
export function oneLine(when: string, verb: string, device: string, site: string): string {
  return `plumb-routine: 1
name: ${verb}-${device}
title: "${verb} ${device}, ${when}"
site: ${site}
when:
  - at: "${when}"
steps:
  - ${verb}: ${device}
`
}
