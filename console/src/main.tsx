import './nonce';
import { QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { App } from './App';
import { signIn } from './api/session';
import { ErrorBoundary } from './shared/ErrorBoundary';
import { Notice } from './shared/Notice';
import { queryClient } from './state/queryClient';
import { applyTheme } from './state/theme';
import './index.css';

const root = document.getElementById('root');
if (root === null) throw new Error('index.html has no element with the id "root"');
const page = createRoot(root);
applyTheme();

page.render(
  <Notice title="Signing in …">A browser of another user waits for the terminal.</Notice>,
);
const outcome = await signIn();
page.render(
  <StrictMode>
    <ErrorBoundary>
      <QueryClientProvider client={queryClient}>
        <App refused={outcome.status === 'refused' ? outcome.reason : undefined} />
      </QueryClientProvider>
    </ErrorBoundary>
  </StrictMode>,
);
