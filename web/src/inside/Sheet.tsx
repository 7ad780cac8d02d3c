import { Check, Copy } from 'lucide-react'
import { useState } from 'react'
import type { Sheet } from '../api/client'
import { useSheet } from '../api/hooks'
import { Button, Card, Facts } from '../parts/ui'

/** What stands on the type plate, ready to be pasted into a support call. */
export function SheetCard({ device }: { device: string }) {
  const sheet = useSheet(device)
  const lines = sheet.data ? sheetLines(sheet.data) : []
  if (sheet.data && lines.length < 2) return null // it says nothing but its name
  return (
    <Card title="Sheet" aside={lines.length > 4 && <CopyButton text={sheetText(lines)} />}>
      {sheet.isError && <p className="text-hung">{sheet.error.message}</p>}
      <Facts rows={lines} />
      {sheet.data?.faults.map((f) => (
        <p key={f} className="mt-2 text-strained">
          Not readable: {f}
        </p>
      ))}
    </Card>
  )
}

export function sheetLines(s: Sheet): [string, string][] {
  const lines: [string, string | undefined][] = [
    ['device', s.device],
    ['maker', s.maker],
    ['product', s.product],
    ['part', s.part],
    ['version', s.version],
    ['serial', s.serial],
    ['asset', s.asset],
    ['board', s.board],
    ['board serial', s.boardSerial],
    ['chassis serial', s.chassisSerial],
    ['GUID', s.guid],
    ['controller', [s.name, s.address].filter(Boolean).join(' ')],
    ['firmware', s.firmware],
    ['protocol', s.protocol],
    ['MAC address', s.mac],
    ['switch port', s.ports?.join('; ')],
    ['more', s.more?.join('; ')],
    ['on for', s.onHours === undefined ? undefined : `${s.onHours} hours`],
  ]
  return lines.filter((l): l is [string, string] => Boolean(l[1]))
}

export const sheetText = (lines: [string, string][]) => lines.map(([n, v]) => `${n}: ${v}`).join('\n')

function CopyButton({ text }: { text: string }) {
  const [copied, setCopied] = useState(false)
  const copy = async () => {
    await navigator.clipboard.writeText(text)
    setCopied(true)
    setTimeout(() => setCopied(false), 2000)
  }
  return (
    <Button onClick={() => void copy()} className="text-[12px]">
      {copied ? <Check size={14} aria-hidden /> : <Copy size={14} aria-hidden />}
      <span aria-live="polite">{copied ? 'Copied' : 'Copy the sheet'}</span>
    </Button>
  )
}
