import '@fontsource-variable/instrument-sans';
import '@fontsource-variable/spline-sans-mono';
import './app.css';
import './lib/theme.svelte';
import { mount } from 'svelte';
import App from './App.svelte';

const target = document.getElementById('app');
if (target) mount(App, { target });
