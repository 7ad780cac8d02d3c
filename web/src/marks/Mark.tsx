import type { ReactElement } from 'react'
import type { VerdictState } from '../api/client'

/** The verdicts, what is wrong first: the order of every list. */
export const wrongFirst: VerdictState[] = [
  'hung',
  'silent',
  'dark',
  'strained',
  'waking',
  'cut-off',
  'unknown',
  'parked',
  'steady',
]

export const words = (s: VerdictState) => s.replace('-', ' ')

/** Text in the colour of a verdict; a healthy one stays ink. */
export const ink: Record<VerdictState, string> = {
  hung: 'text-hung',
  silent: 'text-silent',
  dark: 'text-dark',
  strained: 'text-strained',
  waking: 'text-waking',
  'cut-off': 'text-cutoff',
  unknown: 'text-unknown',
  parked: 'text-parked',
  steady: 'text-steady',
}

const bob = 'M7.8 12.400h8.400c.9 3.5-1.5 7.2-4.2 9.6-2.7-2.4-5.1-6.1-4.2-9.600z'
const beam = <path d="M7 2.200h10" />
const cord = <path d="M12 2.200v9.2" />
const collar = <path d="M9.4 11.200h5.2" />

/**
 * A line with a weight, read by its shape before its colour. Each shape
 * differs from every other also when it is 18 px tall and grey.
 */
const shapes: Record<VerdictState, ReactElement> = {
  steady: (
    <>
      {beam}
      {cord}
      {collar}
      <path d={bob} fill="currentColor" />
    </>
  ),
  strained: (
    <>
      <path d="M3 2.200h9" />
      <g transform="rotate(-31 7.5 2.2) translate(-4.5 0)">
        {cord}
        {collar}
        <path d={bob} fill="currentColor" />
      </g>
    </>
  ),
  hung: (
    <>
      {beam}
      {cord}
      {collar}
      <path d={bob} />
    </>
  ),
  // Sunk out of sight: what hangs there, nobody sees.
  silent: (
    <>
      {beam}
      <path d="M12 2.200v9.4" />
      <path d="M3.400 14.200c2.900-2.800 5.800 2.600 8.600 0s5.700-2.600 8.600 0" />
      <path d="M6.400 19.200c1.900-1.800 3.800 1.700 5.600 0s3.700-1.700 5.600 0" />
    </>
  ),
  dark: (
    <>
      {beam}
      <path d="M12 2.200v14.8" />
      <path d="M9.4 17h5.2" />
    </>
  ),
  'cut-off': (
    <>
      {beam}
      <path d="M12 2.200v3" />
      <path d="M8.2 8.600l7.6-2.4" />
      <path d="M12 10v2.4" strokeDasharray="none" />
      <path d="M8.2 13.600h7.600c.8 3.1-1.3 6.3-3.8 8.4-2.5-2.1-4.6-5.3-3.8-8.400z" />
    </>
  ),
  parked: (
    <>
      {beam}
      <path d="M12 2.200v4" />
      <path d="M9.4 6.200h5.2" />
      <path d="M8 7.600h8c.9 3.3-1.4 6.6-4 8.8-2.6-2.2-4.9-5.5-4-8.800z" fill="currentColor" />
      <path d="M5 21.200h14" />
    </>
  ),
  waking: (
    <>
      {beam}
      <g className="swings">
        {cord}
        {collar}
        <path d={bob} fill="currentColor" />
      </g>
      <path d="M4.6 13.600c-.4 2.6.4 5 2 7" />
      <path d="M19.4 13.600c.4 2.6-.4 5-2 7" />
    </>
  ),
  unknown: (
    <g strokeDasharray="1.6 2.6">
      {beam}
      {cord}
      <path d={bob} />
    </g>
  ),
}

/** The verdict as a mark. Beside its word it is decoration; alone it needs its name. */
export function Mark({ state, size = 20, alone = false }: { state: VerdictState; size?: number; alone?: boolean }) {
  return (
    <svg
      role="img"
      aria-hidden={!alone}
      width={size}
      height={size}
      viewBox="0 0 24 24"
      className={`${ink[state]} shrink-0`}
      fill="none"
      stroke="currentColor"
      strokeWidth={1.9}
      strokeLinecap="round"
      strokeLinejoin="round"
    >
      <title>{words(state)}</title>
      {shapes[state]}
    </svg>
  )
}
