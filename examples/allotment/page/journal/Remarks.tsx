import { Button, Group, Stack, Text, Title } from '@mantine/core'
import { useState } from 'react'
import { filter } from 'pachter/client'
import { Do } from '../parts/Do.js'
import { TextField } from '../parts/fields.js'
import { FormNotes } from '../parts/FormNotes.js'
import { Listed } from '../parts/States.js'
import { useForm, useList, useSession } from '../records.js'
import { date } from '../words.js'

/** What is said of an entry, in threads; wherever the entry is not to be read, there is none of it. */
export function Remarks({ entryId }: { readonly entryId: number }) {
  const { signedIn, signInAt } = useSession()
  const list = useRemarks(entryId)
  const roots = list.records.filter(({ replyToId }) => !list.records.some(({ id }) => id === replyToId))
  return (
    <section aria-labelledby="remarks">
      <Title order={2} id="remarks" mb="sm">
        Remarks
      </Title>
      <Listed state={list} shown={roots} empty="Nobody has said anything yet.">
        {(shown) => (
          <Stack gap="md" mb="md">
            {shown.map((remark) => (
              <Thread key={remark.id} remark={remark} all={list.records} entryId={entryId} />
            ))}
          </Stack>
        )}
      </Listed>
      {signedIn ? (
        <RemarkForm entryId={entryId} label="Your remark" />
      ) : (
        <Text size="sm" c="dimmed">
          <a href={signInAt}>Sign in</a> to say something.
        </Text>
      )}
    </section>
  )
}

const useRemarks = (entryId: number) =>
  useList(
    'remarks',
    {
      access: true,
      filter: filter`entryId eq ${entryId}`,
      orderBy: 'createdAt',
      limit: 200,
      with: { author: { fields: ['name'] } },
    },
    { live: true },
  )

type Remark = ReturnType<typeof useRemarks>['records'][number]

interface ThreadProps {
  readonly remark: Remark
  readonly all: readonly Remark[]
  readonly entryId: number
}

function Thread({ remark, all, entryId }: ThreadProps) {
  const { signedIn } = useSession()
  const [isAnswering, setIsAnswering] = useState(false)
  const answers = all.filter(({ replyToId }) => replyToId === remark.id)
  return (
    <article data-testid={`remark-${remark.id}`}>
      <Text size="sm" c="dimmed">
        {remark.author?.name ?? 'A member'} · {date(remark.createdAt)}
      </Text>
      <Text className="prose">{remark.body}</Text>
      <Group gap="xs" mt={4}>
        {signedIn && (
          <Button size="compact-xs" variant="subtle" onClick={() => setIsAnswering(!isAnswering)}>
            {isAnswering ? 'Do not reply' : 'Reply'}
          </Button>
        )}
        <Do table="remarks" record={remark} action="delete" refused="hide" size="compact-xs" variant="subtle">
          Delete
        </Do>
      </Group>
      {isAnswering && (
        <RemarkForm
          entryId={entryId}
          replyToId={remark.id}
          label={`Your reply to ${remark.author?.name ?? 'this'}`}
          onSaved={() => setIsAnswering(false)}
        />
      )}
      {answers.length > 0 && (
        <Stack gap="sm" mt="sm" className="thread">
          {answers.map((answer) => (
            <Thread key={answer.id} remark={answer} all={all} entryId={entryId} />
          ))}
        </Stack>
      )}
    </article>
  )
}

interface FormProps {
  readonly entryId: number
  readonly replyToId?: number
  readonly label: string
  readonly onSaved?: () => void
}

function RemarkForm({ entryId, replyToId, label, onSaved }: FormProps) {
  const form = useForm('remarks', {
    name: `under ${entryId} ${replyToId ?? ''}`,
    values: { entryId, ...(replyToId !== undefined && { replyToId }) },
    onSaved: () => onSaved?.(),
  })
  return (
    <form onSubmit={(event) => void form.save(event)}>
      <Stack gap="xs" mt="xs" maw="42rem">
        <FormNotes form={form} />
        <TextField form={form} name="body" label={label} lines={2} required />
        <div>
          <Button type="submit" size="compact-md" loading={form.isSaving} disabled={!form.mayChange('body')}>
            Say it
          </Button>
        </div>
      </Stack>
    </form>
  )
}
