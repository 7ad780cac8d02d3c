import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import type { ReactElement } from 'react'
import { renderToStaticMarkup } from 'react-dom/server'
import { MemoryRouter } from 'react-router'
import { describe, expect, it } from 'vitest'
import type { Board, DeviceSummary, Hop, HopState, Operation, VerdictState } from './api/client'
import { MiniLines, Strands } from './marks/lines'
import { ink, Mark, words, wrongFirst } from './marks/Mark'
import { BoardPage } from './pages/Board'
import { OperationProgress } from './parts/OperationProgress'
import { Ago, At, exact } from './parts/time'
import { Spark, Wrong } from './parts/ui'

/** What a page would be with these answers in hand, as markup. */
function render(element: ReactElement, known: [string[], unknown][] = [], at = '/') {
  const client = new QueryClient()
  for (const [key, value] of known) client.setQueryData(key, value)
  return renderToStaticMarkup(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={[at]}>{element}</MemoryRouter>
    </QueryClientProvider>,
  )
}

const text = (markup: string) =>
  markup
    .replace(/<title>[^<]*<\/title>/g, '')
    .replace(/<[^>]*>/g, ' ')
    .replace(/\s+/g, ' ')
    .trim()

describe('the marks', () => {
  it('differ in shape, not only in colour', () => {
    const shapes = wrongFirst.map((state) => {
      const markup = render(<Mark state={state} />)
      return markup
        .replace(/<title>[^<]*<\/title>/, '')
        .replace(ink[state], '')
        .replace(/class="swings"/, '')
    })
    expect(new Set(shapes).size).toBe(wrongFirst.length)
  })
  it('have a name where no word stands beside them', () => {
    expect(render(<Mark state="cut-off" alone />)).toContain('<title>cut off</title>')
    expect(render(<Mark state="hung" alone />)).toContain('aria-hidden="false"')
    expect(render(<Mark state="hung" />)).toContain('aria-hidden="true"')
  })
})

describe('the lines', () => {
  it('break where they break, and hang slack below', () => {
    const markup = render(
      <Strands
        self="router"
        below="4 devices"
        strands={[
          [
            { device: 'ops', label: 'ops', state: 'sound', text: 'here' },
            { device: 'bridge', label: 'bridge', state: 'sound', text: '4.1 ms' },
            { device: 'router', label: 'router', state: 'broken', text: 'silent for 4 min' },
          ],
        ]}
      />,
    )
    expect(text(markup)).toBe(
      'ops here , sound bridge 4.1 ms , sound router silent for 4 min , broken here 4 devices cut off',
    )
    expect(markup).toContain('href="/devices/bridge"')
    expect(markup).not.toContain('href="/devices/router"')
    expect(markup.match(/<circle/g)).toHaveLength(4)
  })
  it('meet at a device with two feeds, which is as well off as the better one', () => {
    const feed = (pdu: string, state: HopState, own: HopState, said: string): Hop[] => [
      { device: pdu, label: pdu, state: 'sound', text: '' },
      { label: 'outlet 1', state, text: '' },
      { device: 'fw', label: 'fw', state: own, text: said },
    ]
    const markup = render(
      <Strands self="fw" strands={[feed('a', 'broken', 'slack', 'without'), feed('b', 'sound', 'sound', 'powered')]} />,
    )
    expect(text(markup)).toBe('a , sound outlet 1 , broken here b , sound outlet 1 , sound fw powered , sound')
    expect(markup.match(/<circle/g)).toHaveLength(5)
  })
  it('say in words what they draw in miniature', () => {
    const markup = render(
      <MiniLines lines={{ power: ['sound', 'sound'], reach: ['sound', 'broken', 'slack'] }} label="broken" />,
    )
    expect(markup).toContain('aria-label="broken"')
    expect(markup.match(/<circle/g)).toHaveLength(5)
    expect(render(<MiniLines lines={{ power: [], reach: ['sound'] }} label="one" />).match(/<circle/g)).toHaveLength(1)
    const two = render(
      <MiniLines
        lines={{ power: ['sound', 'broken', 'slack'], second: ['sound', 'sound', 'sound'], reach: [] }}
        label="two feeds"
      />,
    )
    expect(two.match(/stroke-hung/g), 'the first feed is broken').toHaveLength(1)
    expect(two, 'and the device hangs on the second').not.toContain('fill-rule2')
  })
  it('do not make a storm of a small change', () => {
    const flat = render(<Spark values={[100, 101, 100]} tone="" />)
    const ys = [...flat.matchAll(/,(\d+\.\d)/g)].map((m) => Number(m[1]))
    expect(Math.max(...ys) - Math.min(...ys)).toBeLessThan(1)
    expect(render(<Spark values={[1]} tone="" />)).not.toContain('polyline')
  })
})

function device(key: string, state: VerdictState, more: Partial<DeviceSummary> = {}): DeviceSummary {
  const since = new Date(Date.now() - 240_000).toISOString()
  return {
    key,
    site: 'skarvoe',
    role: 'router',
    words: 'router',
    guarded: false,
    feeds: [{ outlet: 'skarvoe-pdu/3', switched: true, on: true }],
    acts: [
      { kind: 'on', means: 'outlet' },
      { kind: 'cycle', means: 'outlet' },
      { kind: 'off', means: 'outlet' },
    ],
    verdict: { state, since, reasons: [{ stance: 'for', text: 'draws 11.2 W on skarvoe-pdu outlet 3' }] },
    lines: { power: ['sound'], reach: ['sound'] },
    waysIn: [{ kind: 'outlet', label: 'outlet 3 of skarvoe-pdu', state: 'sound', text: 'answers in 4 ms' }],
    recent: [],
    w: 11.2,
    ...more,
  }
}

const hung = device('skarvoe-router', 'hung')
const board: Board = {
  estate: 'Tern Sound Ferries',
  event: 'e-1',
  sites: [{ key: 'skarvoe', name: 'Skarvoe', kind: 'pier', zone: 'UTC', devices: 3, w: 148 }],
  devices: [
    device('skarvoe-bridge', 'steady'),
    hung,
    device('skarvoe-switch', 'cut-off', {
      verdict: { state: 'cut-off', since: '2026-03-01T14:02:10Z', cutBy: 'skarvoe-router', reasons: [] },
    }),
  ],
  service: [],
  trouble: [{ device: 'skarvoe-router', verdict: hung.verdict, explains: ['skarvoe-switch'] }],
}

describe('the board', () => {
  it('says what is wrong, why, and what can be done, before anything else', () => {
    const said = text(render(<BoardPage />, [[['board'], board]]))
    expect(said).toContain('skarvoe-router is hung')
    expect(said).toContain('Draws 11.2 W on skarvoe-pdu outlet 3. Explains 1 cut-off device.')
    expect(said).toContain('Cycle outlet 3…')
    expect(said).toContain('cut off by skarvoe-router')
    expect(said.indexOf('skarvoe-router hung')).toBeLessThan(said.indexOf('skarvoe-bridge'))
  })
  it('filters by verdict, in its address', () => {
    const said = text(render(<BoardPage />, [[['board'], board]], '/?verdict=cut-off'))
    expect(said).toContain('skarvoe-switch')
    expect(said).not.toContain('skarvoe-bridge')
    expect(text(render(<BoardPage />, [[['board'], board]], '/?verdict=dark'))).toContain('No device is like that now.')
  })
  it('says what to do when there is nothing yet', () => {
    expect(text(render(<BoardPage />, [[['board'], { ...board, devices: [], trouble: [] }]]))).toContain(
      'plumb estate import FILE',
    )
  })
})

describe('an operation', () => {
  const operation: Operation = {
    id: 'abc',
    kind: 'cycle',
    device: 'skarvoe-router',
    means: 'outlet',
    site: 'skarvoe',
    outlets: ['skarvoe-pdu/3'],
    byGear: false,
    by: 'admin',
    why: 'hung',
    asked: '2026-03-01T14:07:00Z',
    state: 'running',
    outcome: 'Cycling outlet 3 of skarvoe-pdu',
    doing: 'waiting',
    trouble: [],
    usually: '38–47 s',
    steps: [
      {
        kind: 'switch-off',
        state: 'done',
        text: 'Switch outlet 3 off',
        ended: '2026-03-01T14:07:12Z',
        after: { at: '2026-03-01T14:07:12Z', on: false, w: 0 },
      },
      { kind: 'wait', state: 'waiting', text: 'Wait 10 s', deadline: new Date(Date.now() + 7500).toISOString() },
      { kind: 'answer', state: 'pending', text: 'Wait for the first answer' },
    ],
  }
  const show = (o: Operation) =>
    text(
      render(<OperationProgress id="abc" title={({ children }) => <h2>{children}</h2>} onClose={() => {}} />, [
        [['operation', 'abc'], o],
        [['board'], board],
      ]),
    )

  it('ticks off its steps, and says that it goes on by itself', () => {
    const said = show(operation)
    expect(said).toContain('Cycle outlet 3 of skarvoe-pdu')
    expect(said).toContain('done: Switch outlet 3 off 1 Mar 14:07')
    expect(said).toContain('0.0 W')
    expect(said).toMatch(/waiting: Wait 10 s \d+ s/)
    expect(said).toContain('It usually answers again after 38–47 s.')
    expect(said).toContain('Stop at the next safe point')
  })
  it('ends with one sentence, and before and after beside each other', () => {
    const said = show({ ...operation, state: 'done', outcome: 'Cycled outlet 3', beforeW: 11.2, afterW: 10.9 })
    expect(said).toContain('Cycled outlet 3. Before 11.2 W After 10.9 W')
    expect(said).not.toContain('Stop at')
  })
  it('shouts what should not have happened', () => {
    const said = show({ ...operation, state: 'failed', trouble: ['skarvoe-kiosk fell silent'] })
    expect(said).toContain('skarvoe-kiosk fell silent.')
  })
})

describe('small parts', () => {
  it('announce what went wrong', () => {
    expect(render(<Wrong error={new Error('the card is silent')} />)).toContain('role="alert"')
  })
  it('carry the exact time with every age', () => {
    const at = '2026-03-01T14:02:10Z'
    expect(render(<Ago at={at} zone="Asia/Tokyo" />)).toContain(exact(at, 'Asia/Tokyo'))
    expect(render(<At at={at} zone="UTC" />)).toContain(`dateTime="${at}"`)
    expect(words('cut-off')).toBe('cut off')
  })
})
