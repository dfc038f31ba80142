// A window for one screen: the page that opened it fills it.
opener?.postMessage('screen is there', location.origin);
