import { Alert, Anchor, Button, Group, Stack, Text } from '@mantine/core'
import type { Form } from 'pachter/react'
import { useSession } from '../records.js'

interface Props {
  readonly form: Pick<
    Form,
    'problem' | 'needsSignIn' | 'isRestored' | 'theirs' | 'takeTheirs' | 'keepMine' | 'values' | 'save'
  >
  /** The texts that two people can have written differently. */
  readonly compared?: readonly string[]
}

/** What there is to say of a form as a whole: nothing typed is ever lost by it. */
export function FormNotes({ form, compared = [] }: Props) {
  const { signInAt } = useSession()
  if (form.theirs) {
    return (
      <Alert color="yellow" role="alert" title="Somebody else changed this meanwhile">
        <Stack gap="xs">
          <Text size="sm">Nothing was saved, and what you typed is still below. This is what is there now:</Text>
          {compared.map((name) => (
            <Text key={name} size="sm" fs="italic">
              {String(form.theirs?.[name] ?? '')}
            </Text>
          ))}
          <Group gap="xs">
            <Button size="compact-sm" onClick={form.keepMine}>
              Keep mine
            </Button>
            <Button size="compact-sm" variant="default" onClick={form.takeTheirs}>
              Take theirs
            </Button>
          </Group>
        </Stack>
      </Alert>
    )
  }
  if (form.needsSignIn) {
    return (
      <Alert color="beet" role="alert" title="You are not signed in any more">
        Nothing was saved, and what you typed is kept. <Anchor href={signInAt}>Sign in again</Anchor>, and you come back
        to it here.
      </Alert>
    )
  }
  if (form.problem) {
    return (
      <Alert color="beet" role="alert" title="Nothing was saved">
        {form.problem.message}
      </Alert>
    )
  }
  if (form.isRestored) {
    return (
      <Alert color="leaf" role="status" title="Welcome back">
        This is what you had typed. It is not saved yet.
      </Alert>
    )
  }
  return null
}
