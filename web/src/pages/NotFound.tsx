import { Link } from 'react-router'

export function NotFoundPage() {
  return (
    <div className="p-5">
      <h1 className="text-[21px] font-semibold">There is no page at this address</h1>
      <p className="mt-2">
        <Link className="underline" to="/">
          To the board
        </Link>
      </p>
    </div>
  )
}
