import { Group, Text, TextInput } from '@mantine/core'
import { useState } from 'react'
import { Head } from '../parts/Head.js'
import { Listed } from '../parts/States.js'
import { useList } from '../records.js'
import { date } from '../words.js'

/** Who is a member; more of each than the name and since when, only the secretary sees. */
export function MembersPage() {
  const [sought, setSought] = useState('')
  const list = useList('members', { orderBy: 'name', limit: 200 }, { live: true })
  const shown = list.records.filter(({ name }) => name?.toLowerCase().includes(sought.toLowerCase()))
  return (
    <>
      <Head title="Members" lead="Who else digs here." />
      <TextInput
        mb="md"
        maw="20rem"
        label="Find a member"
        type="search"
        value={sought}
        onChange={({ currentTarget }) => setSought(currentTarget.value)}
      />
      <section className="card" aria-label="Members">
        <Listed state={list} shown={shown} empty="Nobody of that name.">
          {(members) =>
            members.map((member) => (
              <div key={member.id} className="row" data-testid={`member-${member.id}`}>
                <Group justify="space-between">
                  <Text fw={600}>{member.name}</Text>
                  <Text size="sm" c="dimmed">
                    since {date(member.joinedAt)}
                  </Text>
                </Group>
              </div>
            ))
          }
        </Listed>
      </section>
    </>
  )
}
