import { Button, Group, Stack, Text } from '@mantine/core'
import { Do } from '../parts/Do.js'
import { TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Head } from '../parts/Head.js'
import { Failed, Waiting } from '../parts/States.js'
import { useForm, useRecord, useSession } from '../records.js'
import { date } from '../words.js'

/** What the association knows of whoever looks, and what of it they may change themselves. */
export function ProfilePage() {
  const { caller, roles, signOut } = useSession()
  const { record, isLoading, error, retry } = useRecord('members', caller['id'] as number | undefined, { access: true })
  const form = useForm('members', { record })
  if (isLoading) return <Waiting />
  if (!record) return <Failed text={error?.message ?? 'It is not there.'} onRetry={retry} />
  return (
    <>
      <Head title="Your profile" lead={`A member since ${date(record.joinedAt)}`} />
      <form onSubmit={(event) => void form.save(event)}>
        <Stack maw="32rem">
          <FormNotes form={form} compared={['name', 'phone']} />
          <TextField form={form} name="name" label="Name" required />
          <TextField form={form} name="phone" label="Telephone" type="tel" />
          <TextField form={form} name="email" label="E-mail, by which you sign in" />
          <Text size="sm" c="dimmed">
            {roles.length > 0 ? `Your duties: ${roles.join(', ')}. ` : ''}What is not yours to change, the secretary
            can.
          </Text>
          <Group>
            <Button type="submit" loading={form.isSaving} disabled={!form.isChanged}>
              Save
            </Button>
            <Do
              table="members"
              record={record}
              action="delete"
              size="sm"
              confirm={{
                title: 'Leave Korenveld?',
                text: 'You are no member any more from then on. What you wrote goes with you.',
                yes: 'Leave',
                no: 'Stay',
              }}
              onDone={signOut}
            >
              Leave the association
            </Do>
          </Group>
        </Stack>
      </form>
    </>
  )
}
