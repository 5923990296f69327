import { Anchor, Button } from '@mantine/core'
import { useEffect, useState } from 'react'
import { lookAs, lookingAs } from '../looking.js'
import { useConnected, useList, useSession } from '../records.js'

/** Says as whom the secretary looks, and leads back. */
export function Looking() {
  const as = lookingAs()
  const { isKnown, signedIn } = useSession()
  const members = useList('members', { filter: `id eq ${Number(as) || 0}` }, { enabled: isKnown && signedIn })
  if (as === undefined) return null
  const name = as === 'visitor' ? 'a visitor' : (members.records[0]?.name ?? `member ${as}`)
  return (
    <div className="looking" role="status">
      <div className="looking-inner">
        <span>
          You see Korenveld as <strong>{name}</strong> does. Nothing can be changed meanwhile.
        </span>
        <Button size="compact-sm" color="dark" onClick={() => lookAs(undefined)}>
          Back to yourself
        </Button>
      </div>
    </div>
  )
}

/** Says that the session is over, or that changes do not come in at the moment. */
export function Notices() {
  const { hasEnded, signInAt } = useSession()
  const isConnected = useConnected()
  const [isLong, setIsLong] = useState(false)
  useEffect(() => {
    if (isConnected) return undefined
    // A connection that is back at once is not worth a word.
    const timer = setTimeout(() => setIsLong(true), 3000)
    return () => {
      clearTimeout(timer)
      setIsLong(false)
    }
  }, [isConnected])
  if (hasEnded) {
    return (
      <div className="notice" role="alert">
        <div className="notice-inner">
          <span>Your session has ended. What you see may be old; what you are typing is kept.</span>
          <Anchor href={signInAt} c="inherit" fw={600}>
            Sign in again
          </Anchor>
        </div>
      </div>
    )
  }
  if (isConnected || !isLong) return null
  return (
    <div className="notice" role="status">
      <div className="notice-inner">
        <span>No connection to Korenveld at the moment; what you see may be old.</span>
      </div>
    </div>
  )
}
