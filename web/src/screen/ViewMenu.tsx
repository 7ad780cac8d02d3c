import * as Menu from '@radix-ui/react-dropdown-menu'
import type { Lie, Turn } from './stage'
import type { Edid } from './view'

const item =
  'flex min-h-8 w-full cursor-default items-center gap-2 rounded px-2 outline-none data-[highlighted]:bg-sunk max-sm:min-h-11'

/** How the picture is shown. */
export function ViewMenu({
  lie,
  setLie,
  displays,
  display,
  setDisplay,
  pointer,
  setPointer,
  full,
  awake,
  keepAwake,
  replug,
  edid,
  pretend,
  hold,
}: {
  lie: Lie
  setLie: (lie: Lie) => void
  displays: number
  display: number
  setDisplay: (display: number) => void
  pointer: boolean
  setPointer: (is: boolean) => void
  full: () => void
  awake?: string
  keepAwake?: (minutes: number) => void
  replug?: () => void
  edid?: Edid
  pretend: (name: string) => void
  hold?: () => void
}) {
  const marked = (is: boolean) => <span aria-hidden className={`w-4 ${is ? "before:content-['✓']" : ''}`} />
  return (
    <Menu.Root modal={false}>
      <Menu.Trigger className="inline-flex min-h-8 items-center gap-1.5 rounded-md border border-rule2 bg-panel px-3 font-medium max-sm:min-h-11">
        View <span aria-hidden>▾</span>
      </Menu.Trigger>
      <Menu.Portal>
        <Menu.Content
          align="start"
          sideOffset={4}
          className="z-40 min-w-56 rounded-lg border border-rule2 bg-panel p-1 shadow-lg"
        >
          <Menu.Item className={item} onSelect={() => setLie({ ...lie, fits: true, zoom: 1 })}>
            {marked(lie.fits)}Fit into the page
          </Menu.Item>
          <Menu.Item className={item} onSelect={() => setLie({ ...lie, fits: false, zoom: 1 })}>
            {marked(!lie.fits && lie.zoom === 1)}Pixel by pixel
          </Menu.Item>
          <Menu.Item className={item} onSelect={() => setLie({ ...lie, fits: false, zoom: 2 })}>
            {marked(!lie.fits && lie.zoom === 2)}Twice as large
          </Menu.Item>
          <Menu.Item className={item} onSelect={() => setLie({ ...lie, turn: ((lie.turn + 1) % 4) as Turn })}>
            {marked(lie.turn !== 0)}Turn it to the right
          </Menu.Item>
          {document.fullscreenEnabled && (
            <Menu.Item className={item} onSelect={full}>
              {marked(false)}Full screen
            </Menu.Item>
          )}
          {displays > 1 && (
            <Menu.Item className={item} onSelect={() => setDisplay((display + 1) % (displays + 1))}>
              {marked(display > 0)}
              {display < displays ? `Only display ${display + 1} of ${displays}` : `All ${displays} displays`}
            </Menu.Item>
          )}
          <Menu.Separator className="my-1 h-px bg-rule" />
          <Menu.Item className={item} onSelect={() => setPointer(!pointer)}>
            {marked(pointer)}Pointer of this window
          </Menu.Item>
          {keepAwake && (
            <Menu.Item className={item} onSelect={() => keepAwake(awake ? 0 : 30)}>
              {marked(awake !== undefined)}Keep its device awake for 30 minutes
            </Menu.Item>
          )}
          {replug && (
            <Menu.Item className={item} onSelect={replug}>
              {marked(false)}Plug its keyboard in anew
            </Menu.Item>
          )}
          {edid && (
            <Menu.Sub>
              <Menu.SubTrigger className={item} disabled={edid.tries !== undefined}>
                {marked(false)}Its KVM pretends to be… <span aria-hidden>▸</span>
              </Menu.SubTrigger>
              <Menu.Portal>
                <Menu.SubContent className="z-50 min-w-40 rounded-lg border border-rule2 bg-panel p-1 shadow-lg">
                  {edid.offers.map((name) => (
                    <Menu.Item key={name} className={item} onSelect={() => pretend(name)}>
                      {marked(name === edid.is)}a display {name}
                    </Menu.Item>
                  ))}
                </Menu.SubContent>
              </Menu.Portal>
            </Menu.Sub>
          )}
          {hold && (
            <Menu.Item className={item} onSelect={hold}>
              {marked(false)}Keep the pointer in it, until Esc
            </Menu.Item>
          )}
        </Menu.Content>
      </Menu.Portal>
    </Menu.Root>
  )
}
