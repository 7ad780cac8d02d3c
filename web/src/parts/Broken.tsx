import { useRouteError } from 'react-router'
import { ButtonLink } from './ButtonLink'
import { Button } from './ui'

/** What stands in the place of a page that has failed, or could not be loaded. */
export function Broken() {
  const error = useRouteError()
  const text = error instanceof Error ? error.message : String(error)
  const notLoaded = /import|chunk|fetch/i.test(text)
  return (
    <div role="alert" className="max-w-prose p-5">
      <h1 className="text-[21px] font-semibold">
        {notLoaded ? 'This page could not be loaded' : 'This page has failed'}
      </h1>
      <p className="mt-2">
        {notLoaded
          ? 'The connection broke off, or the service has been updated meanwhile. Loading everything again helps with both.'
          : 'That is a fault of the console. What runs, runs on: nothing that was asked for is lost.'}
      </p>
      <p className="mt-2 font-mono text-[12px] break-words text-ink3">{text}</p>
      <p className="mt-4 flex gap-2">
        <Button tone="strong" onClick={() => location.reload()}>
          Load everything again
        </Button>
        <ButtonLink to="/" reloadDocument>
          To the board
        </ButtonLink>
      </p>
    </div>
  )
}
