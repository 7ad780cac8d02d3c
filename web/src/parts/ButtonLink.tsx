import { Link, type LinkProps } from 'react-router'
import { tones } from './ui'

/** A link that looks like a button, for what has an address of its own. */
export function ButtonLink({ className = '', ...rest }: LinkProps) {
  return (
    <Link
      {...rest}
      className={`inline-flex min-h-8 items-center justify-center rounded-md border px-3 py-1 font-medium whitespace-nowrap max-sm:min-h-11 ${tones.plain} ${className}`}
    />
  )
}
