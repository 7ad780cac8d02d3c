import type { QueryClient, QueryKey } from '@tanstack/react-query'

/**
 * Loads again what has changed, key by key. A load that is on its way is never broken off:
 * over a slow line it would never end. What changes meanwhile is loaded once more behind it.
 */
export class Refresher {
  private readonly busy = new Map<string, { again: boolean }>()

  constructor(
    private readonly client: QueryClient,
    private readonly pause = 1000,
  ) {}

  /** exact: only what has this very key, and not what begins with it. */
  ask(queryKey: QueryKey, exact = false) {
    const id = JSON.stringify([queryKey, exact])
    const running = this.busy.get(id)
    if (running) {
      running.again = true
      return
    }
    this.busy.set(id, { again: false })
    void this.run(id, queryKey, exact)
  }

  private async run(id: string, queryKey: QueryKey, exact: boolean) {
    const wait = () => new Promise((r) => setTimeout(r, this.pause))
    const filter = { queryKey, exact }
    await wait() // a burst of changes is one
    for (;;) {
      const turn = { again: false }
      this.busy.set(id, turn)
      // What nobody looks at is loaded when somebody does.
      await this.client.invalidateQueries({ ...filter, refetchType: 'none' })
      await this.client.refetchQueries({ ...filter, type: 'active' }, { cancelRefetch: false }).catch(() => undefined)
      if (!turn.again) break
      await wait()
    }
    this.busy.delete(id)
  }
}
