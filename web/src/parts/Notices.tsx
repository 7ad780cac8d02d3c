import { useCallback, useState } from 'react'

export type Notice = { n: number; text: string }

const kept = 4

/** What happens where several sit, the newest last. */
export function useNotices(): [Notice[], (text: string) => void] {
  const [notices, set] = useState<Notice[]>([])
  const tell = useCallback((text: string) => {
    set((all) => [...all.slice(1 - kept), { n: (all.at(-1)?.n ?? 0) + 1, text }])
  }, [])
  return [notices, tell]
}

export function Notices({ all }: { all: Notice[] }) {
  return (
    <>
      <p className="sr-only" role="log" aria-live="polite">
        {all.at(-1)?.text}
      </p>
      {all.length > 0 && (
        <ul className="text-[12px] text-ink3">
          {all.slice(-2).map((n) => (
            <li key={n.n}>{n.text}</li>
          ))}
        </ul>
      )}
    </>
  )
}
