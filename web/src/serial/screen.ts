import { SearchAddon } from '@xterm/addon-search'
import { type ITheme, Terminal } from '@xterm/xterm'
import '@xterm/xterm/css/xterm.css'

/** A terminal looks the same on drafting paper and in a dim room. */
const theme: ITheme = {
  background: '#11151c',
  foreground: '#ebe8e0',
  cursor: '#d9b25c',
  cursorAccent: '#11151c',
  selectionBackground: '#3a4353',
}

/**
 * The terminal writes style sheets of its own into the page, which the page does not allow:
 * they are handed over as sheets that a script has made, and not as text in an element.
 */
function styledBySheets(): Document {
  const style = () => {
    const sheet = new CSSStyleSheet()
    document.adoptedStyleSheets = [...document.adoptedStyleSheets, sheet]
    const element = document.createElement('i')
    element.hidden = true
    Object.defineProperty(element, 'textContent', { set: (css: string) => sheet.replaceSync(css) })
    const remove = element.remove.bind(element)
    element.remove = () => {
      document.adoptedStyleSheets = document.adoptedStyleSheets.filter((s) => s !== sheet)
      remove()
    }
    return element
  }
  return new Proxy(document, {
    get(target, key) {
      if (key === 'createElement') {
        return (name: string) => (name === 'style' ? style() : document.createElement(name))
      }
      const value: unknown = Reflect.get(target, key, target)
      return typeof value === 'function' ? value.bind(target) : value
    },
  })
}

const glyphShare = 0.6 // of the text size that a character of the monospaced font is wide
const lineShare = 1.2
const least = { columns: 80, rows: 24 } // as set-up menus expect
const most = { columns: 200, rows: 60 }

/** How many characters fit, and never less than menus expect: what is wider is scrolled. */
export function fitting(width: number, height: number, size: number) {
  return {
    columns: Math.min(most.columns, Math.max(least.columns, Math.floor(width / (size * glyphShare)))),
    rows: Math.min(most.rows, Math.max(least.rows, Math.floor(height / (size * lineShare)))),
  }
}

export type Screen = {
  terminal: Terminal
  search: SearchAddon
  close: () => void
}

export function openScreen(into: HTMLElement, fontSize: number, typed: (text: string) => void): Screen {
  const { columns, rows } = fitting(into.clientWidth, into.clientHeight, fontSize)
  const terminal = new Terminal({
    cols: columns,
    rows,
    fontSize,
    fontFamily: '"JetBrains Mono Variable", ui-monospace, monospace',
    lineHeight: 1,
    theme,
    scrollback: 5000,
    cursorBlink: false,
    screenReaderMode: false,
    documentOverride: styledBySheets(),
    allowProposedApi: true,
  })
  const search = new SearchAddon()
  terminal.loadAddon(search)
  terminal.open(into)
  terminal.onData(typed)
  return { terminal, search, close: () => terminal.dispose() }
}
