import { Anchor, Button, Container, Group, NavLink, Stack, Text, Title } from '@mantine/core'
import { useEffect, useState } from 'react'
import { model } from '../model.js'
import { Answers } from './Answers.js'
import {
  type Answer,
  fetchRecords,
  fetchSession,
  type Loaded,
  pathOf,
  send,
  type Session,
  signOut,
  type Table,
} from './api.js'
import { Forge } from './Forge.js'
import { RecordList } from './RecordList.js'

const MOST_ANSWERS = 4
const TABLES = Object.keys(model.tables) as readonly Table[]

/** Korenveld as whoever signed in gets it, or as a visitor does. */
export function App() {
  const [session, setSession] = useState<Session>({ signedIn: false })
  const [table, setTable] = useState<Table>('entries')
  const [loaded, setLoaded] = useState<Loaded>({ records: [] })
  const [answers, setAnswers] = useState<readonly Answer[]>([])

  useEffect(() => void fetchSession().then(setSession), [])
  useEffect(() => {
    // A slow answer for the table shown before must not overwrite this one's.
    let current = true
    void fetchRecords(table).then((each) => current && setLoaded(each))
    return () => {
      current = false
    }
  }, [table, answers])

  const submit = async (method: 'PATCH' | 'DELETE', path: string, values?: object, etag?: string | null) =>
    setAnswers([await send(session, method, path, values, etag), ...answers].slice(0, MOST_ANSWERS))

  return (
    <Container size="xl" py="sm" pb={150}>
      <Group justify="space-between" mb="sm">
        <Group align="baseline">
          <Title order={2}>Korenveld</Title>
          <Text c="dimmed">what you see and may do</Text>
        </Group>
        <Group component="section" aria-label="Who you are">
          <Text>{session.signedIn ? session.name : 'Visitor'}</Text>
          {session.signedIn ? (
            <Button variant="default" onClick={() => void signOut(session)}>
              Sign out
            </Button>
          ) : (
            <Button component="a" href="/sign-in?to=/">
              Sign in
            </Button>
          )}
        </Group>
      </Group>
      <Group align="flex-start" wrap="nowrap">
        <Stack gap={0} w={160} component="nav" aria-label="Tables" style={{ flexShrink: 0 }}>
          {TABLES.map((name) => (
            <NavLink key={name} label={name} active={name === table} onClick={() => setTable(name)} />
          ))}
          <Anchor href="/api/openapi.json" size="sm" p="xs">
            OpenAPI, for you
          </Anchor>
        </Stack>
        <Stack gap="xs" style={{ flexGrow: 1, minWidth: 0 }} component="main">
          <Forge
            key={table}
            table={table}
            onSend={(key, values) => submit('PATCH', pathOf(table, { id: key }), values)}
          />
          {loaded.refusal ? (
            <Text c="red">{loaded.refusal}</Text>
          ) : (
            <RecordList table={table} records={loaded.records} onSubmit={submit} />
          )}
        </Stack>
      </Group>
      <Answers answers={answers} />
    </Container>
  )
}
