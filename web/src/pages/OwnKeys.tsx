import { type FormEvent, useState } from 'react'
import { useChangeOwnKeys, useOwnKeys } from '../api/hooks'
import { At } from '../parts/time'
import { Button, Card, Loading, Wrong } from '../parts/ui'

const here = Intl.DateTimeFormat().resolvedOptions().timeZone

/** The public keys that let one in by SSH. */
export function OwnKeys() {
  const keys = useOwnKeys()
  const change = useChangeOwnKeys()
  const [text, setText] = useState('')
  const submit = (e: FormEvent) => {
    e.preventDefault()
    change.mutate({ add: text }, { onSuccess: () => setText('') })
  }
  if (keys.isPending) return <Loading what="your keys" />
  if (keys.isError) return <Wrong error={keys.error} retry={() => void keys.refetch()} />
  return (
    <Card title="Your keys">
      <p className="mb-3 text-ink2">
        They let you in by SSH, where the service has its gate open: with a terminal, and nothing else.
      </p>
      <ul className="mb-3 space-y-2">
        {keys.data.map((k) => (
          <li key={k.print} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className="font-medium">{k.name || k.type}</span>
            <code className="min-w-0 break-all font-mono text-[12px] text-ink2">{k.print}</code>
            <span className="text-ink3">
              since <At at={k.added} zone={here} />
            </span>
            <Button tone="bare" onClick={() => change.mutate({ remove: k.print })}>
              Remove
            </Button>
          </li>
        ))}
        {keys.data.length === 0 && <li className="text-ink3">There is none.</li>}
      </ul>
      <form onSubmit={submit} className="flex flex-wrap items-end gap-2">
        <label className="flex min-w-0 flex-1 basis-80 flex-col gap-1 text-[12px] text-ink3">
          A public key, as in a file that ends in .pub
          <textarea
            rows={2}
            className="rounded-md border border-rule2 bg-panel px-2 py-1 font-mono text-[12px] text-ink"
            placeholder="ssh-ed25519 AAAA… somebody@there"
            value={text}
            onChange={(e) => setText(e.target.value)}
            autoCapitalize="none"
            spellCheck={false}
          />
        </label>
        <Button type="submit" disabled={text.trim() === '' || change.isPending}>
          Add the key
        </Button>
      </form>
      {change.isError && <Wrong error={change.error} />}
    </Card>
  )
}
