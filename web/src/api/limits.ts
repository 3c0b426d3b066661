// Written by make types, from the service's own description.
export type Limit = { required?: true; minLength?: number; maxLength?: number; pattern?: string; minimum?: number; maximum?: number }

export const limits = {
  "Accept": {
    "reason": {
      "minLength": 3,
      "maxLength": 500,
      "required": true
    },
    "what": {
      "minLength": 1,
      "maxLength": 1000,
      "required": true
    },
    "where": {
      "maxLength": 4000
    }
  },
  "ChangedSource": {
    "prefix": {
      "maxLength": 60,
      "pattern": "^[A-Za-z0-9_]+$"
    },
    "sub_site": {
      "maxLength": 250
    }
  },
  "ChangedStarter": {
    "source": {
      "minLength": 1,
      "required": true
    }
  },
  "CopyRule": {
    "days": {
      "minimum": 0
    },
    "last": {
      "minimum": 0
    }
  },
  "Credentials": {
    "name": {
      "minLength": 1,
      "maxLength": 60,
      "required": true
    },
    "password": {
      "minLength": 1,
      "maxLength": 256,
      "required": true
    }
  },
  "LinkCheck": {
    "link": {
      "minLength": 1,
      "required": true
    }
  },
  "ListLevel": {
    "find": {
      "maxLength": 400
    },
    "path": {
      "maxLength": 4000
    }
  },
  "Move": {
    "host": {
      "minLength": 1,
      "required": true
    }
  },
  "NewAgency": {
    "colour": {
      "maxLength": 7
    },
    "contact": {
      "maxLength": 300
    },
    "name": {
      "maxLength": 120
    }
  },
  "NewClient": {
    "name": {
      "maxLength": 63,
      "pattern": "^[a-z0-9][a-z0-9-]*$",
      "required": true
    }
  },
  "NewClientFile": {
    "name": {
      "minLength": 1,
      "maxLength": 255,
      "required": true
    }
  },
  "NewComparison": {
    "from": {
      "minLength": 1,
      "required": true
    }
  },
  "NewDraft": {
    "name": {
      "pattern": "^[a-z][a-z0-9-]{0,39}$",
      "required": true
    }
  },
  "NewHandover": {
    "days": {
      "minimum": 1,
      "maximum": 90
    }
  },
  "NewHost": {
    "name": {
      "maxLength": 60,
      "pattern": "^[a-z0-9][a-z0-9-]*$",
      "required": true
    }
  },
  "NewImport": {
    "note": {
      "maxLength": 500
    }
  },
  "NewInstall": {
    "from": {
      "minLength": 1,
      "required": true
    },
    "host": {
      "minLength": 1,
      "required": true
    },
    "name": {
      "maxLength": 63,
      "pattern": "^[a-z0-9]([a-z0-9-]*[a-z0-9])?$",
      "required": true
    }
  },
  "NewKind": {
    "definition": {
      "minLength": 1,
      "maxLength": 1048576,
      "required": true
    }
  },
  "NewPassword": {
    "new": {
      "minLength": 10,
      "maxLength": 256,
      "required": true
    },
    "old": {
      "maxLength": 256
    }
  },
  "NewRelease": {
    "note": {
      "maxLength": 500
    }
  },
  "NewSite": {
    "client": {
      "minLength": 1,
      "required": true
    }
  },
  "NewSource": {
    "name": {
      "maxLength": 60,
      "pattern": "^[a-z0-9][a-z0-9-]*$",
      "required": true
    },
    "prefix": {
      "maxLength": 60,
      "pattern": "^[A-Za-z0-9_]+$"
    },
    "sub_site": {
      "maxLength": 250
    }
  },
  "NewStarter": {
    "name": {
      "maxLength": 60,
      "pattern": "^[a-z0-9][a-z0-9-]*$",
      "required": true
    }
  },
  "NewToken": {
    "days": {
      "minimum": 0,
      "maximum": 3650
    },
    "name": {
      "minLength": 1,
      "maxLength": 60,
      "required": true
    }
  },
  "NewUser": {
    "name": {
      "maxLength": 60,
      "pattern": "^[a-z0-9][a-z0-9._-]*$",
      "required": true
    },
    "password": {
      "minLength": 10,
      "maxLength": 256,
      "required": true
    }
  },
  "OpenHandover": {
    "key": {
      "maxLength": 200
    }
  },
  "Retention": {
    "last": {
      "minimum": 0,
      "maximum": 10000
    },
    "weeks": {
      "minimum": 0,
      "maximum": 520
    }
  },
  "Screenshots": {
    "pages": {
      "minimum": 1,
      "maximum": 40
    }
  }
} satisfies Record<string, Record<string, Limit>>
