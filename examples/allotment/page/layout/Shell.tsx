import { Button, UnstyledButton, useComputedColorScheme, useMantineColorScheme } from '@mantine/core'
import { useState } from 'react'
import { Link, NavLink, Outlet, ScrollRestoration, useNavigation } from 'react-router'
import { filter } from 'pachter/client'
import { lookAs, lookingAs } from '../looking.js'
import { useList, useSession } from '../records.js'
import { Looking, Notices } from './Notices.js'

interface Place {
  readonly to: string
  readonly text: string
}

/** What surrounds every page. */
export function Shell() {
  const { isKnown } = useSession()
  const navigation = useNavigation()
  const [isOpen, setIsOpen] = useState(false)
  return (
    <>
      <a className="skip" href="#content">
        Skip to content
      </a>
      <Looking />
      <header className="head" {...(isOpen && { 'data-open': true })}>
        <div className="head-inner">
          <Link to="/" className="brand">
            <svg width="22" height="22" viewBox="0 0 16 16" aria-hidden="true">
              <path
                d="M1 13c2.5-2.5 4-2.5 7 0s4.5 2.5 7 0M1 8c2.500-2.500 4-2.500 7 0s4.500 2.500 7 0M1 3c2.500-2.500 4-2.500 7 0s4.500 2.500 7 0"
                stroke="#b6d5bb"
                strokeWidth="1.6"
                fill="none"
              />
            </svg>
            Korenveld
          </Link>
          <UnstyledButton
            className="menu-button"
            aria-expanded={isOpen}
            aria-controls="main-nav"
            onClick={() => setIsOpen(!isOpen)}
          >
            {isOpen ? 'Close' : 'Menu'}
          </UnstyledButton>
          <Navigation onGo={() => setIsOpen(false)} />
          {isKnown && <Who />}
        </div>
      </header>
      <Notices />
      <main id="content" aria-busy={navigation.state !== 'idle'}>
        <Outlet />
      </main>
      <ScrollRestoration />
    </>
  )
}

function usePlaces(): readonly Place[] {
  const { signedIn, roles, caller } = useSession()
  const me = Number(caller['id'] ?? 0)
  const warden = useList('siteWardens', { filter: filter`memberId eq ${me}`, limit: 1 }, { enabled: signedIn })
  const open = [
    { to: '/', text: 'Journal' },
    { to: '/plots', text: 'Plots' },
  ]
  if (!signedIn) return open
  return [
    ...open,
    { to: '/jobs', text: 'Jobs' },
    { to: '/rents', text: 'Rents' },
    { to: '/waiting-list', text: 'Waiting list' },
    { to: '/members', text: 'Members' },
    ...(warden.records.length > 0 ? [{ to: '/wardens', text: 'Wardens' }] : []),
    ...(roles.includes('secretary') ? [{ to: '/office', text: 'Office' }] : []),
  ]
}

function Navigation({ onGo }: { readonly onGo: () => void }) {
  const places = usePlaces()
  return (
    <nav id="main-nav" className="main-nav" aria-label="Main">
      {places.map(({ to, text }) => (
        <NavLink key={to} to={to} end={to === '/'} onClick={onGo}>
          {text}
        </NavLink>
      ))}
    </nav>
  )
}

function Who() {
  const { signedIn, caller, signInAt, signOut } = useSession()
  const { toggleColorScheme } = useMantineColorScheme()
  const scheme = useComputedColorScheme('light')
  const me = Number(caller['id'] ?? 0)
  const own = useList('members', { filter: filter`id eq ${me}` }, { enabled: signedIn })
  return (
    <div className={signedIn ? 'who' : 'who visitor'}>
      <UnstyledButton
        onClick={toggleColorScheme}
        aria-label={scheme === 'dark' ? 'Light colours' : 'Dark colours'}
        title={scheme === 'dark' ? 'Light colours' : 'Dark colours'}
      >
        <span aria-hidden="true">{scheme === 'dark' ? '☀' : '☾'}</span>
      </UnstyledButton>
      {signedIn ? (
        <>
          <Link to="/profile">{own.records[0]?.name ?? 'Profile'}</Link>
          <UnstyledButton
            onClick={() => {
              if (lookingAs() !== undefined) lookAs(undefined)
              else void signOut()
            }}
          >
            {lookingAs() === undefined ? 'Sign out' : 'Stop looking'}
          </UnstyledButton>
        </>
      ) : (
        <Button component="a" href={signInAt} size="compact-md" variant="white" c="leaf.9">
          Sign in
        </Button>
      )}
    </div>
  )
}
