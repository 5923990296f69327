import { Badge, Code, Container, Group, Paper, Stack, Text } from '@mantine/core'
import type { Answer } from './api.js'

/** What the server said to the latest changes, at the foot of the page. */
export function Answers({ answers }: { readonly answers: readonly Answer[] }) {
  return (
    <Paper withBorder shadow="md" pos="fixed" bottom={0} left={0} right={0} py="xs" style={{ zIndex: 10 }}>
      <Container size="xl">
        <Stack gap={4} aria-label="What the server answered" role="log">
          <Text size="sm" fw={600}>
            What the server answered
          </Text>
          {answers.length === 0 && (
            <Text size="sm" c="dimmed">
              Nothing yet. A button marked “anyway” sends a change that the page would not offer.
            </Text>
          )}
          {answers.map((answer, at) => (
            <Group key={`${answers.length - at}`} gap="xs" wrap="nowrap" data-testid="answer">
              <Badge color={answer.status < 300 ? 'teal' : 'red'} variant="filled" miw={48}>
                {answer.status}
              </Badge>
              <Code style={{ flexShrink: 0 }}>{answer.request}</Code>
              <Text size="sm" truncate title={answer.detail}>
                {answer.detail}
              </Text>
            </Group>
          ))}
        </Stack>
      </Container>
    </Paper>
  )
}
