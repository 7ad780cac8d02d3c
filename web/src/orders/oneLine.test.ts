import { expect, test } from 'vitest'
import { oneLine } from './oneLine'

test('a routine of one step', () => {
  expect(oneLine('every day at 03:30', 'cycle', 'skarvoe-cell', 'skarvoe')).toContain(
    'name: cycle-skarvoe-cell\ntitle: "cycle skarvoe-cell, every day at 03:30"\nsite: skarvoe\nwhen:\n  - at: "every day at 03:30"\nsteps:\n  - cycle: skarvoe-cell\n',
  )
})
