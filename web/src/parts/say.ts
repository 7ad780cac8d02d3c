import type { Act, DeviceSummary, Means, OperationKind, Reason, Sensor, Verdict, VerdictState } from '../api/client'
import { clock } from './time'

/** A reason as a sentence, with the time since when it has been so. */
export function sentence(r: Reason, zone: string, now: number): string {
  return r.at && r.since ? `${r.text} since ${clock(r.at, zone, now)}` : r.text
}

/** A sentence begins with a capital, but the key of a device stays as it is. */
export function capital(text: string): string {
  const first = text.split(' ')[0] ?? ''
  return /[-\d]/.test(first) ? text : `${text.charAt(0).toUpperCase()}${text.slice(1)}`
}

/** The diagnosis: the evidence for a verdict in one sentence. */
export function diagnosis(v: Verdict, zone: string, now: number): string {
  const parts = v.reasons.filter((r) => r.stance === 'for').map((r) => sentence(r, zone, now))
  const text = (parts.length > 0 ? parts : v.reasons.map((r) => sentence(r, zone, now))).join('; ')
  return text ? `${capital(text)}.` : ''
}

export const verbs: Record<OperationKind, string> = {
  cycle: 'Cycle',
  off: 'Switch off',
  on: 'Switch on',
  shutdown: 'Shut down',
  reset: 'Reset',
  nmi: 'Send a diagnostic interrupt',
  sleep: 'Put to sleep',
  press: 'Press its power button',
  restart: 'Restart its controller or card',
}

/** "outlet 3", "PoE port 1", "outlets 3 and 5": numbers only, where the PDU is plain. */
export function outletNumbers(outlets: string[]): string {
  const ports = outlets.map((o) => o.split('/')[1] ?? '')
  const word = ports.every((p) => p.startsWith('poe-')) ? 'PoE port' : 'outlet'
  const ns = ports.map((p) => p.replace(/^[a-z]+-/, ''))
  // The same number on two PDUs, as with two feeds.
  if (new Set(ports).size < ns.length) return ns.length === 2 ? `both ${word}s` : `all ${ns.length} ${word}s`
  return ns.length === 1 ? `${word} ${ns[0]}` : `${word}s ${ns.join(' and ')}`
}

const things: Partial<Record<Means, string>> = {
  chassis: ' the chassis',
  panel: ' by its front panel',
  output: ' its output',
  wake: '',
}

/** "Cycle outlet 3", "Cycle the chassis", "Shut down". */
export function actionName(kind: OperationKind, means: Means, outlets: string[]): string {
  if (kind !== 'on' && kind !== 'off' && kind !== 'cycle') return verbs[kind]
  return `${verbs[kind]}${things[means] ?? ` ${outletNumbers(outlets)}`}`
}

export const switchedOutlets = (d: DeviceSummary) => d.feeds.filter((f) => f.switched).map((f) => f.outlet)

/** What is likely to be wanted, and gentle, first: by how the device is. */
const likely: Partial<Record<VerdictState, OperationKind[]>> = {
  parked: ['on'],
  dark: ['on'],
  // What hangs does not listen when it is asked to shut down, or to sleep.
  hung: ['reset', 'cycle', 'nmi', 'press', 'off', 'restart'],
}
const usual: OperationKind[] = ['shutdown', 'reset', 'cycle', 'sleep', 'nmi', 'press', 'off', 'restart']

/** What can be done about a device now, the likely and gentle thing first. */
export function actionsFor(d: DeviceSummary): Act[] {
  const off = d.feeds.length > 0 && d.feeds.every((f) => f.on === false)
  const kinds = (off ? likely.dark : likely[d.verdict.state]) ?? usual
  // Nor does its command line answer.
  const deaf = d.verdict.state === 'hung' || d.verdict.state === 'silent' || d.verdict.state === 'dark'
  return kinds.flatMap((k) => d.acts.filter((a) => a.kind === k && !(deaf && a.means === 'command')))
}

/** Whether a sensor or an entry of an event log says that something is wrong. */
export const isWrong = ({ level }: Pick<Sensor, 'level'>) => level === 'warning' || level === 'critical'

/**
 * How many devices, and ways in to others ("skarvoe-pdu card"), are reached through something.
 * A way in to a device that is counted itself says nothing more.
 */
export function counted(behind: string[]): string | undefined {
  const devices = behind.filter((b) => !b.includes(' '))
  const ways = behind.filter((b) => b.includes(' ') && !devices.includes(b.slice(0, b.indexOf(' '))))
  const words = [
    devices.length > 0 && `${devices.length} ${devices.length === 1 ? 'device' : 'devices'}`,
    ways.length > 0 && `${ways.length} ${ways.length === 1 ? 'way in' : 'ways in'}`,
  ].filter(Boolean)
  return words.length > 0 ? words.join(', ') : undefined
}
