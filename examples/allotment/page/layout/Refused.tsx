import { Anchor, Text } from '@mantine/core'
import { isRouteErrorResponse, Link, useRouteError } from 'react-router'
import { Head } from '../parts/Head.js'
import { useSession } from '../records.js'

/** What is shown in place of a page that somebody may not see, that is not there, or that failed. */
export function Refused() {
  const error = useRouteError()
  const status = isRouteErrorResponse(error) ? error.status : 500
  const detail = isRouteErrorResponse(error) ? (error.data as { readonly detail?: string }).detail : undefined
  if (status === 404) return <NothingHere />
  if (status === 403) return <Explained title="Not for you" text={detail ?? 'You may not see this page.'} />
  return <Explained title="That did not work" text={detail ?? 'Something went wrong. Try again in a moment.'} />
}

/** A page that is not there, or not for whoever looks: nobody is told which. */
export function NothingHere() {
  return <Explained title="Nothing here" text="There is no such page, or it is not one you can see." />
}

function Explained({ title, text }: { readonly title: string; readonly text: string }) {
  const { signedIn, isKnown, signInAt } = useSession()
  return (
    <>
      <Head title={title} lead={text} />
      <Text>
        <Anchor component={Link} to="/">
          To the journal
        </Anchor>
        {isKnown && !signedIn && (
          <>
            {' or '}
            <Anchor href={signInAt}>sign in</Anchor>, if you are a member.
          </>
        )}
      </Text>
    </>
  )
}
