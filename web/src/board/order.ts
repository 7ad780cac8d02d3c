import type { DeviceSummary, Site } from '../api/client'
import { wrongFirst } from '../marks/Mark'

const rank = (d: DeviceSummary) => wrongFirst.indexOf(d.verdict.state)

/** The devices of each site, what is wrong first; the sites where something is wrong first. One pass over all. */
export function bySite(sites: Site[], devices: DeviceSummary[]): { site: Site; rows: DeviceSummary[] }[] {
  const groups = new Map(sites.map((site) => [site.key, { site, ranks: wrongFirst.map((): DeviceSummary[] => []) }]))
  for (const d of devices) groups.get(d.site)?.ranks[rank(d)]?.push(d)
  return [...groups.values()]
    .map((g) => ({ site: g.site, rows: g.ranks.flat(), worst: g.ranks.findIndex((r) => r.length > 0) }))
    .sort((x, y) => (x.worst < 0 ? Infinity : x.worst) - (y.worst < 0 ? Infinity : y.worst))
    .map(({ site, rows }) => ({ site, rows }))
}

/** What is shown of each row's order: the keys, site by site. */
export const sortedKeys = (sites: Site[], devices: DeviceSummary[]): string[] =>
  bySite(sites, devices).flatMap((g) => g.rows.map((d) => d.key))

/** How many rows are somewhere else in the new order. */
export function moved(held: string[], wanted: string[]): number {
  return held.filter((k, i) => wanted[i] !== k).length
}

/** The sites and their devices in an order that is held. */
export function inOrder(sites: Site[], devices: DeviceSummary[], order: string[]) {
  const byKey = new Map(devices.map((d) => [d.key, d]))
  const groups = new Map<string, DeviceSummary[]>()
  for (const key of order) {
    const d = byKey.get(key)
    if (!d) continue
    const rows = groups.get(d.site)
    if (rows) rows.push(d)
    else groups.set(d.site, [d])
  }
  const site = new Map(sites.map((s) => [s.key, s]))
  return [...groups].flatMap(([key, rows]) => {
    const s = site.get(key)
    return s ? [{ site: s, rows }] : []
  })
}
