import { Group, Text, Title } from '@mantine/core'
import { type ReactNode, useEffect, useRef } from 'react'
import { useLocation } from 'react-router'

interface Props {
  readonly title: string
  readonly lead?: ReactNode
  /** What can be done here, at the side. */
  readonly children?: ReactNode
}

/** The head of a page. Coming to it, the window is called after it, and a screen reader begins here. */
export function Head({ title, lead, children }: Props) {
  const heading = useRef<HTMLHeadingElement>(null)
  const { pathname } = useLocation()
  useEffect(() => {
    document.title = `${title} · Korenveld`
  }, [title])
  useEffect(() => heading.current?.focus({ preventScroll: true }), [pathname])
  return (
    <Group justify="space-between" align="flex-start" mb="lg" gap="sm">
      <div>
        <Title order={1} ref={heading} tabIndex={-1}>
          {title}
        </Title>
        {lead && (
          <Text component="div" c="dimmed" mt={4}>
            {lead}
          </Text>
        )}
      </div>
      {children && <Group gap="xs">{children}</Group>}
    </Group>
  )
}
